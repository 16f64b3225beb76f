"""The verbs: validated options -> plan -> views -> engine -> receipt. This is the Python API.

Options take the same phrases as the command line ("2m", "EPSG:32626", area phrases).
"""
