"""Options of verbs that give colours to cells."""

from __future__ import annotations

from typing import Annotated

from zembrel.optiontext import OptionText

Ramp = Annotated[str | None, OptionText("Colour ramp for values: relief, viridis, Greys ...", "NAME")]
ClassColours = Annotated[str | None, OptionText("Legend file with classes and colours.", "FILE")]
RampEnds = Annotated[
    str | None,
    OptionText("Value range for the colour ramp, e.g. 0,900 or 2%,98%. Default: the full range.", "LO,HI"),
]
Light = Annotated[str, OptionText("Direction of the light: azimuth and altitude in degrees.", "AZ,ALT")]
Stretch = Annotated[
    str | None,
    OptionText(
        "Value range to stretch to the full range, e.g. 0,3000 or 2%,98%. each:2%,98% treats "
        "each band separately.",
        "LO,HI",
        flag="--stretch",
    ),
]
LIGHT = "315,45"
