"""Files as they are: at an address, here, in a folder, or in a store that fsspec knows (`s3://...`)."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from zembrel.errors import InputError, RemoteError
from zembrel.formats import by_ranges, open_raster, readable
from zembrel.formats.archives import is_archive, members
from zembrel.formats.origin import Origin, own_folder
from zembrel.runstate import Stamp
from zembrel.sources.kept import origin_at
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import ENDING, SourceFile
from zembrel.sources.wish import SourceLayer, SourceLayers, Wish
from zembrel.web.addresses import is_address


class StoredFile:
    """A `ByteSource` of a file that fsspec opens, wherever that is."""

    def __init__(self, address: str) -> None:
        self._address, self.file = address, Path(Path(urlsplit(address).path).name or "file")
        self._size = int(self._system().size(address))

    def __str__(self) -> str:
        return self._address

    @property
    def stamp(self) -> Stamp:
        return Stamp(0, 0, self._size)

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset`; fewer at the end."""
        end = min(offset + count, self._size)
        return bytes(self._system().cat_file(self._address, start=offset, end=end)) if offset < end else b""

    def _system(self) -> Any:
        """What reads such addresses. Raises InputError where its package is not there."""
        try:
            import fsspec

            return fsspec.url_to_fs(self._address)[0]
        except ImportError as exc:
            kind = urlsplit(self._address).scheme
            what = f"{kind}:// needs a package that is not installed"
            raise InputError(what, str(exc), f"pip install fsspec and the one for {kind}") from exc


def open_source(source: SourceFile, service: Service, wish: Wish) -> SourceLayers:
    """The rasters of a file, an archive or a folder."""
    found = origins_of(source, service)
    return SourceLayers(tuple(SourceLayer(origin.name.stem, open_raster(origin)) for origin in found))


def origins_of(source: SourceFile, service: Service) -> list[Origin]:
    """The files that an address or a path means. Raises InputError, RemoteError."""
    address = source.filled(secret=True)
    if is_address(address):
        return unpacked(origin_at(service, source.request()))
    if "://" in address:
        return unpacked(_stored(address))
    path = source.path.absolute().parent / address
    if path.is_dir():
        files = (one for one in sorted(path.rglob("*")) if one.is_file() and not one.name.endswith(ENDING))
        inside = [Origin.of(one) for one in files if readable(one)]  # no sources: this one may be among them
        if not inside:
            raise InputError(f"folder {path} holds no raster", f"{source.path} names it", "mend the address")
        return inside
    if not path.exists():
        raise InputError(f"{path} does not exist", f"{source.path} names it", "mend the address")
    return unpacked(Origin.of(path))


def unpacked(origin: Origin) -> list[Origin]:
    """What is in an archive; a file as it is."""
    return members(origin, None, readable) if is_archive(origin.name) else [origin]


def _stored(address: str) -> Origin:
    try:
        held = StoredFile(address)
        if by_ranges(held.read(0, 1_024)):
            return Origin(Path(address.replace("://", "/")), held.file, held)
        file = own_folder() / held.file.name
        file.write_bytes(held.read(0, held.stamp.size))
    except (OSError, ValueError) as exc:
        raise RemoteError(f"{address} cannot be read", str(exc), "check the address") from exc
    return Origin(Path(address.replace("://", "/")), file)
