"""What is written beside a field that people fill in: the text of an option, and how it is typed."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, init=False)
class OptionText:
    """The help of an option, what its value is called (None: it is a switch), and its flags.

    It stands in the annotation of a field, or of a parameter: `Annotated[int, OptionText("Help.", "N")]`.
    Without flags an option is typed as the field is named. A switch that is on has `--NAME/--no-NAME`.
    """

    help: str
    value: str | None
    flags: tuple[str, ...]

    def __init__(self, help: str, value: str | None = None, *flags: str) -> None:
        object.__setattr__(self, "help", help)
        object.__setattr__(self, "value", value)
        object.__setattr__(self, "flags", flags)

    def flags_of(self, field: str) -> tuple[str, ...]:
        """Return the flags, for a field of that name."""
        return self.flags or (f"--{field.replace('_', '-')}",)

    def name_of(self, field: str) -> str:
        """Return the name by which Python and job files know the option: its long flag, with underscores."""
        long = max(self.flags_of(field)[0].split("/")[0], self.flags_of(field)[-1].split("/")[0], key=len)
        return long.removeprefix("--").replace("-", "_")
