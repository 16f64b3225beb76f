"""Lazy views: each a small frozen record that answers for a pane by asking what it holds."""
