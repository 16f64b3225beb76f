"""How a picture is asked for: options as they are typed, and the looks they mean."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

from zembrel.draw.colouring import Look
from zembrel.draw.picture import UNITS
from zembrel.draw.shapes import ShapeLook
from zembrel.errors import UsageError, nearest_name
from zembrel.formats.legendfile import read_legend
from zembrel.optiontext import OptionText
from zembrel.pictures.appearance import ClassColours, Ramp
from zembrel.pictures.cloudpictures import PointLook
from zembrel.pictures.mapextras import NO_EXTRAS, MapExtras
from zembrel.raster.legend import Legend
from zembrel.results.phrases import number_pair

_SMALLEST, _LARGEST = 200, 20_000  # pixels of a side


@dataclass(frozen=True)
class Drawing:
    """What a picture looks like, each option as it is typed.

    limits: `LO,HI`; classes: `natural:6` of a field of numbers, or of points which; size: `1280x800`;
    section: `X1,Y1,X2,Y2` of points; extras: what else stands on a map.
    """

    ramp: Ramp = None
    legend: ClassColours = None
    limits: Annotated[
        str | None, OptionText("Value range for the colour ramp. Default: the full range.", "LO,HI")
    ] = None
    shade: Annotated[bool, OptionText("Shade slopes with light from the north-west.")] = False
    title: Annotated[str | None, OptionText("Title of the image. Default: the file name.", "TEXT")] = None
    field: Annotated[str | None, OptionText("Colour features by this field.", "FIELD")] = None
    classes: Annotated[
        str,
        OptionText(
            "For a numeric field: equal, quantile or natural, with 5 classes unless N is given. "
            "For points: the classes to draw, e.g. 2,9.",
            "WAY[:N]",
        ),
    ] = "quantile"
    by: Annotated[
        str, OptionText("Colour points by height, class, intensity, return, source or time.", "VALUE")
    ] = "height"
    section: Annotated[
        str | None, OptionText("Draw points as a vertical section along this line.", "X1,Y1,X2,Y2")
    ] = None
    width: Annotated[str | None, OptionText("Width of the section.", "LENGTH")] = None
    size: Annotated[str, OptionText("Size of the image in pixels.", "WxH")] = "1280x800"
    units: Annotated[str | None, OptionText("Unit of a second scale bar: mi, ft, yd or nmi.", "UNIT")] = None
    extras: MapExtras = NO_EXTRAS

    @property
    def look(self) -> Look:
        """How rasters are shown. Raises UsageError or InputError."""
        across, high = number_pair(self.size, "x", "--size 1280x800", int)
        if not all(_SMALLEST <= side <= _LARGEST for side in (across, high)):
            raise UsageError(
                f"a picture of {self.size} pixels",
                "200 to 20,000 on each side are drawn",
                "write --size 1280x800",
            )
        if self.units is not None and self.units not in UNITS:
            why = "it is the unit of a second scale bar"
            raise UsageError(f"--units {self.units}", why, nearest_name(self.units, UNITS))
        ends = number_pair(self.limits, ",", "--limits 0,900", float) if self.limits else None
        return Look(self.ramp, self._entries, ends, self.shade, self.title, width=across, height=high,
                    units=self.units)  # fmt: skip

    @property
    def shapes(self) -> ShapeLook:
        """How features are shown. Raises UsageError or InputError."""
        return shape_look(
            self.field, "quantile" if self.of_points else self.classes, self.ramp, self._entries
        )

    @property
    def points(self) -> PointLook:
        """How points are shown."""
        return PointLook(self.by, self.section, self.width)

    @property
    def of_points(self) -> bool:
        """Whether `classes` are those of points."""
        return self.classes[:1].isdigit()

    @property
    def _entries(self) -> Legend | None:
        return read_legend(Path(self.legend)) if self.legend else None


USUAL = Drawing()


def shape_look(field: str | None, classes: str, ramp: str | None, legend: Legend | None) -> ShapeLook:
    """Features coloured by a field, its numbers in classes such as `natural:6`. Raises UsageError."""
    way, _, count = classes.partition(":")
    if count and not (count.isdigit() and 1 <= int(count) <= 20):
        raise UsageError(
            f"--classes {classes}", "1 to 20 classes can be told apart", "write --classes natural:5"
        )
    return ShapeLook(field, way, int(count or 5), ramp, legend)
