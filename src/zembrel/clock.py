"""The time that results carry: now, or the one that SOURCE_DATE_EPOCH gives, so that results can be repeated.

Source: reproducible-builds.org, "SOURCE_DATE_EPOCH specification", version 1.1.
"""

from __future__ import annotations

import os
import time
from datetime import UTC, datetime


def time_of_writing() -> datetime:
    """The time for what is written now, in UTC."""
    return datetime.fromtimestamp(float(os.environ.get("SOURCE_DATE_EPOCH", time.time())), UTC)
