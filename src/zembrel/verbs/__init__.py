"""The verbs: validated options -> plan -> views -> engine -> receipt. This is the Python API.

Options take the same phrases as the command line ("2m", "EPSG:32626", area phrases).
"""

from typing import TYPE_CHECKING

from zembrel.ondemand import on_demand

if TYPE_CHECKING:
    from zembrel.verbs import comparefigures as comparefigures
    from zembrel.verbs import describepage as describepage

__getattr__ = on_demand(__name__)  # of what draws, since drawing loads slowly
