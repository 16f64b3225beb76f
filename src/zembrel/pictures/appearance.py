"""Options of verbs that give colours to cells."""

from __future__ import annotations

from typing import Annotated

from zembrel.optiontext import OptionText

Ramp = Annotated[str | None, OptionText("Colours of values: relief, viridis, Greys ...", "NAME")]
ClassColours = Annotated[str | None, OptionText("Classes and colours of codes.", "FILE")]
RampEnds = Annotated[str | None, OptionText("Ends of the ramp: 0,900 or 2%,98%; all if not said.", "LO,HI")]
Light = Annotated[str, OptionText("Where light comes from, in degrees.", "AZ,ALT")]
Stretch = Annotated[
    str | None,
    OptionText(
        "Ends that fill the range: 0,3000 or 2%,98%; each:2%,98% of each band for itself.",
        "LO,HI",
        "--stretch",
    ),
]
LIGHT = "315,45"
