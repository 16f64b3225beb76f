"""Checksums of files and folders: BLAKE3, which reads as fast as memory gives.

Source: O'Connor, Aumasson, Neves and Wilcox-O'Hearn, "BLAKE3: one function, fast everywhere" (2020).
"""

from __future__ import annotations

from pathlib import Path

_WHOLE = 1 << 20  # bytes of a file that is read at once, not mapped


def checksum_of(path: Path) -> str:
    """The checksum of a file, in hexadecimal; of a folder, of all names and contents in it.

    Raises OSError.
    """
    import blake3

    if path.is_dir():
        names = sorted(str(inner.relative_to(path)) for inner in path.rglob("*") if inner.is_file())
        return checksum_of_text("".join(f"{name}\0{checksum_of(path / name)}\n" for name in names))
    if path.stat().st_size <= _WHOLE:
        return blake3.blake3(path.read_bytes()).hexdigest()
    return blake3.blake3().update_mmap(path).hexdigest()


def checksum_of_text(text: str) -> str:
    """The checksum of a text, in hexadecimal."""
    import blake3

    return blake3.blake3(text.encode()).hexdigest()
