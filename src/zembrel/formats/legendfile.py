"""Legend files (`*.legend.toml`): one table for each class code, with its name and colour."""

from __future__ import annotations

import re
from pathlib import Path

from zembrel.errors import InputError
from zembrel.raster.legend import Entry, Legend
from zembrel.tomlfile import check_keys, read_toml, write_toml

ENDING = ".legend.toml"


def read_legend(path: Path) -> Legend:
    """The legend in the file at `path`. Raises InputError naming what is wrong."""
    entries = []
    for code, facts in read_toml(path, "legend file").items():
        if not code.isdigit() or not isinstance(facts, dict):
            raise InputError(
                f"{path}: {code!r} is no class code",
                "codes are whole numbers",
                "write [3] and its keys below",
            )
        check_keys(path, facts, {"name": str, "colour": str}, required=("colour",))
        found = re.fullmatch(r"#([0-9a-fA-F]{2})([0-9a-fA-F]{2})([0-9a-fA-F]{2})", facts["colour"])
        if not found:
            raise InputError(
                f"{path}: colour {facts['colour']!r} of class {code}", "it is not #rrggbb", "mend that line"
            )
        red, green, blue = (int(part, 16) for part in found.groups())
        entries.append(Entry(int(code), facts.get("name", ""), (red, green, blue)))
    return Legend.of(entries)


def write_legend(legend: Legend) -> str:
    """TOML text of `legend`."""
    return write_toml(
        {
            str(entry.code): {"name": entry.name, "colour": "#{:02x}{:02x}{:02x}".format(*entry.colour)}
            for entry in legend.entries
        }
    )
