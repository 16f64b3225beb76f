"""The exceptions that the standard library and codecs raise for damaged files."""

from __future__ import annotations

import sqlite3
import struct
import zipfile
import zlib

DAMAGED = (
    ArithmeticError, AssertionError, AttributeError, EOFError, LookupError, OSError, RuntimeError,
    SyntaxError, TypeError, ValueError, sqlite3.Error, struct.error, zipfile.BadZipFile, zlib.error,
)  # fmt: skip
