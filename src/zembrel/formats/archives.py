"""Layers in archives: `.zip`, `.tar` (compressed or not) and single files in `.gz`.

Only what is read is unpacked, into a folder of this process, with what lies beside it. A member's own path
is never used for a place on the disk, and what a member claims or turns out to hold is bounded: by the free
space, and by how far real data can be compressed.
"""

from __future__ import annotations

import gzip
import lzma
import shutil
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from itertools import islice
from pathlib import Path, PurePosixPath
from typing import BinaryIO, NamedTuple, cast

from zembrel.errors import InputError, ResourceError
from zembrel.formats.origin import Origin, own_folder
from zembrel.measure import show_bytes
from zembrel.reading import TRUST, layer_at, readings

_TAR = (".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz")
_ENDINGS = (".zip", ".gz", *_TAR)
_MOST_MEMBERS = 100_000
_MOST_BESIDE = 2_000_000_000  # bytes of a file beside a layer
_PLAUSIBLE = 1_200  # times that Deflate can make of its bytes; more is a trap
_FROM = 10_000_000  # bytes from which that is looked at
_ERRORS = (
    OSError,
    EOFError,
    zipfile.BadZipFile,
    tarfile.TarError,
    zlib.error,
    lzma.LZMAError,
    NotImplementedError,
)


class Member(NamedTuple):
    """A file in an archive: its path there, its size as claimed, and how to read it."""

    path: str
    size: int
    open: Callable[[], BinaryIO]


def is_archive(path: Path) -> bool:
    """Whether the name of `path` is that of an archive."""
    name = path.name.lower()
    return name.endswith(_ENDINGS) and not name.endswith(".zarr.zip")


def members(archive: Origin, wanted: str | None, *kinds: Callable[[Path], bool]) -> list[Origin]:
    """The layers in `archive`, or the one that `wanted` names, unpacked.

    kinds: whether a name is that of a raster, of features; the first kind that is there counts. Raises
    InputError if there is none, or it is no archive.
    """
    with _members(archive) as held:
        found = (chosen for is_one in kinds if (chosen := [m for m in held if is_one(Path(m.path))]))
        layers = next(found, [])
        names = [m.path for m in layers]
        if wanted is not None and (wanted in names or any(PurePosixPath(n).name == wanted for n in names)):
            layers = [m for m in layers if wanted in (m.path, PurePosixPath(m.path).name)][:1]
        if not layers:
            listed = ", ".join(m.path for m in held[:6]) or "nothing"
            raise InputError(f"{archive} holds no raster", f"it holds {listed}", "see zembrel formats")
        return _unpacked(archive, layers, held)


def _unpacked(archive: Origin, layers: Sequence[Member], held: Sequence[Member]) -> list[Origin]:
    """Layers, unpacked with what lies beside each; of several that share a stem nothing is unpacked twice."""
    together: dict[tuple[PurePosixPath, str], list[Member]] = {}
    for member in held:
        together.setdefault(_stem(member), []).append(member)
    made, folders = [], dict[tuple[PurePosixPath, str], Path]()
    for layer in layers:
        stem, inner = _stem(layer), PurePosixPath(layer.path)
        if stem not in folders:
            folders[stem] = own_folder()
            for member in together[stem]:
                if member in layers or member.size <= readings.most(_MOST_BESIDE):
                    _copy(archive, member, folders[stem] / PurePosixPath(member.path).name)
        path, low = archive.name, archive.name.name.lower()
        inside = PurePosixPath(*(part for part in inner.parts if part not in ("/", "..")))
        name = path / inside if not low.endswith(".gz") or low.endswith(_TAR) else path.with_suffix("")
        made.append(Origin(name, folders[stem] / inner.name))
    return made


def _stem(member: Member) -> tuple[PurePosixPath, str]:
    place = PurePosixPath(member.path)
    return place.parent, place.name.partition(".")[0]


def _copy(archive: Origin, member: Member, target: Path) -> None:
    path, packed = archive.name, archive.size
    free = shutil.disk_usage(target.parent).free
    written = 0
    if member.size > free:
        raise _too_large(path, member.path, member.size, free)
    with _decoding(path), member.open() as source, target.open("wb") as out:
        while data := source.read(1_000_000):
            written += len(data)
            if written > _FROM and written > readings.most(_PLAUSIBLE * packed):
                raise InputError(
                    f"{path} unpacks to more than it can hold",
                    f"{member.path} passes {show_bytes(written)}, the archive has {show_bytes(packed)}",
                    f"it is broken, or made to fill disks; {TRUST}",
                )
            if written > free * 0.95:
                raise _too_large(path, member.path, written, free)
            out.write(data)


def _too_large(path: Path, member: str, size: int, free: int) -> ResourceError:
    return ResourceError(
        f"{member} in {path} needs {show_bytes(size)}", f"{show_bytes(free)} are free", "free some space"
    )


@contextmanager
def _decoding(path: Path) -> Iterator[None]:
    try:
        yield
    except _ERRORS as exc:
        raise InputError(
            f"{path} is no sound archive", f"{exc}" or type(exc).__name__, "get the file again"
        ) from exc
    except RuntimeError as exc:  # the zip package's word for a password
        raise InputError(f"{path} cannot be unpacked", f"{exc}", "unpack it yourself") from exc


@contextmanager
def _members(archive: Origin) -> Iterator[list[Member]]:
    """The plain files in `archive`, in its order. Raises InputError."""
    path, file = archive.name, archive.file
    name = path.name.lower()
    layer_at(file)
    if name.endswith(".zip"):
        with _decoding(path):
            packed = zipfile.ZipFile(file)
        with packed:
            _check_count(path, len(packed.infolist()))
            entries = [entry for entry in packed.infolist() if not entry.is_dir()]
            yield [
                Member(e.filename, e.file_size, lambda e=e: cast(BinaryIO, packed.open(e)))  # type: ignore[misc]
                for e in entries
            ]
    elif name.endswith(_TAR):
        with _decoding(path):
            bundle = tarfile.open(file)  # noqa: SIM115
        with bundle:
            with _decoding(path):
                files = [entry for entry in islice(bundle, readings.most(_MOST_MEMBERS) + 1) if entry.isreg()]
            _check_count(path, len(files))
            yield [
                Member(e.name, e.size, lambda e=e: cast(BinaryIO, bundle.extractfile(e)))  # type: ignore[misc]
                for e in files
            ]
    else:
        with _decoding(path):
            file.stat()
        yield [Member(path.stem, 0, lambda: cast(BinaryIO, gzip.open(file)))]  # noqa: SIM115


def _check_count(path: Path, members: int) -> None:
    if members > readings.most(_MOST_MEMBERS):
        what, why = f"{path} has more than {_MOST_MEMBERS:,} members", "it is looked through as a whole"
        raise InputError(what, why, f"unpack it and name the folder, or {TRUST}")


def layer_of(name: str | None, origin: Origin) -> str | None:
    """`name` unless it named the member of an archive that `origin` is."""
    path = origin.name
    inside = name is not None and not origin.plain and name in (path.name, *map(str, _tails(path)))
    return None if inside else name


def _tails(path: Path) -> Iterator[PurePosixPath]:
    for start in range(len(path.parts)):
        yield PurePosixPath(*path.parts[start:])
