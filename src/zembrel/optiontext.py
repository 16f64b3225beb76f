"""The help of an option, in the annotation of the field or parameter that holds its value."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class OptionText:
    """Help for one option: `Annotated[int, OptionText("Number of rows.", "N")]`.

    value: name of the value in the help; None for a switch. flag: the long flag, where it differs from the
    name of the field; `--key/--no-key` for a switch that is on by default. short: the short flag.
    """

    help: str
    value: str | None = None
    flag: str | None = None
    short: str | None = None

    def flags(self, field: str) -> tuple[str, ...]:
        """Return the flags of the option that `field` holds."""
        long = self.flag or f"--{field.replace('_', '-')}"
        return (self.short, long) if self.short else (long,)

    def name(self, field: str) -> str:
        """Return the name of the option in Python and in job files."""
        return self.flags(field)[-1].partition("/")[0].removeprefix("--").replace("-", "_")
