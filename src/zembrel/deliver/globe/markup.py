"""The elements of KML that packs for globes are made of, in the order of its schema."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from xml.sax.saxutils import escape

from zembrel.features.files.kml import geometry_text
from zembrel.features.files.kmltext import XML_HOLDS_NOT, display_name, for_viewers
from zembrel.features.table import FeatureTable
from zembrel.grid.tiling import Bounds

_HEAD = '<?xml version="1.0" encoding="UTF-8"?>\n<kml xmlns="http://www.opengis.net/kml/2.2"><Document>\n'
_FILL, _LINE = "99", 2  # opacity of areas in hexadecimal digits, and pixels of lines
DOT = "dot.png"


@dataclass(frozen=True)
class Shown:
    """How a layer is shown: opacity 0 to 1, its place among others, pixels along it between which it is."""

    opacity: float = 1.0
    order: int = 0
    pixels: tuple[float, float] = (0.0, -1.0)

    @property
    def exclusive(self) -> bool:
        """Whether only one level may be seen at a place: two half-clear ones would add up."""
        return self.opacity < 1


def document(name: str, *parts: str) -> str:
    """A whole file."""
    return f"{_HEAD}{text_of('name', name)}\n{''.join(parts)}</Document></kml>\n"


def text_of(element: str, text: str) -> str:
    """An element of text, without the characters that XML cannot hold."""
    return f"<{element}>{escape(XML_HOLDS_NOT.sub('', text), {chr(13): '&#13;'})}</{element}>"


def folder(name: str, *parts: str) -> str:
    return f"<Folder>{text_of('name', name)}\n{''.join(parts)}</Folder>\n"


def region(bounds: Bounds, low: float, high: float) -> str:
    """Where, and at which sizes on the screen, something is shown."""
    box = f"<LatLonAltBox>{_sides(bounds)}</LatLonAltBox>"
    lod = f"<Lod><minLodPixels>{low:g}</minLodPixels><maxLodPixels>{high:g}</maxLodPixels></Lod>"
    return f"<Region>{box}{lod}</Region>"


def overlay(name: str, image: str, bounds: Bounds, shown: Shown, level: int, where: str = "") -> str:
    """A picture on the ground; where: its region."""
    colour = f"<color>{round(shown.opacity * 255):02x}ffffff</color>" if shown.opacity < 1 else ""
    order = f"<drawOrder>{shown.order + level}</drawOrder>"
    icon = f"<Icon>{text_of('href', image)}</Icon>"
    box = f"<LatLonBox>{_sides(bounds)}</LatLonBox>"
    return f"<GroundOverlay>{text_of('name', name)}{where}{colour}{order}{icon}{box}</GroundOverlay>\n"


def link(name: str, address: str, where: str = "") -> str:
    """Another file of the archive, loaded once its region is seen."""
    when = "<viewRefreshMode>onRegion</viewRefreshMode>" if where else ""
    way = f"<Link>{text_of('href', address)}{when}</Link>"
    return f"<NetworkLink>{text_of('name', name)}{where}{way}</NetworkLink>\n"


def key_overlay(image: str) -> str:
    """A picture that stays at the lower left of the screen."""
    at = '<{} x="{}" y="{}" xunits="{}" yunits="{}"/>'
    return (
        f"<ScreenOverlay><name>Key</name><drawOrder>99</drawOrder><Icon>{text_of('href', image)}</Icon>"
        + at.format("overlayXY", 0, 0, "fraction", "fraction")
        + at.format("screenXY", 16, 40, "pixels", "pixels")
        + at.format("size", -1, -1, "pixels", "pixels")
        + "</ScreenOverlay>\n"
    )


def look_at(bounds: Bounds, metres: float) -> str:
    """A view from above of all of an area that is so many metres wide."""
    west, south, east, north = bounds
    return (
        f"<LookAt><longitude>{(west + east) / 2:.9f}</longitude>"
        f"<latitude>{(south + north) / 2:.9f}</latitude>"
        f"<heading>0</heading><tilt>0</tilt><range>{metres * 1.2:.0f}</range></LookAt>\n"
    )


def placemarks(table: FeatureTable, colours: Sequence[str]) -> str:
    """Features in degrees, each in its colour, with a style for each of these."""
    styles = "".join(_style(colour) for colour in dict.fromkeys(colours))
    rows = zip(table.geometries, table.rows(), colours, strict=True)
    return styles + "".join(_placemark(shape, row, colour) for shape, row, colour in rows)


def _placemark(shape: Any, row: dict[str, Any], colour: str) -> str:
    name = text_of("name", str(row["name"])) if row.get("name") is not None else ""
    data = "".join(
        f'<Data name="{_quoted(key)}">{display_name(key)}{text_of("value", for_viewers(str(value)))}</Data>'
        for key, value in row.items()
        if value is not None
    )
    data = f"<ExtendedData>{data}</ExtendedData>" if data else ""
    style = f"<styleUrl>#c{colour[1:]}</styleUrl>"
    return f"<Placemark>{name}{style}{data}{''.join(geometry_text(shape))}</Placemark>\n"


def _quoted(text: str) -> str:
    return escape(XML_HOLDS_NOT.sub("", text), {'"': "&quot;"})


def _style(colour: str) -> str:
    """Points, lines and areas of a colour, which KML writes from opacity over blue and green to red."""
    turned = colour[5:7] + colour[3:5] + colour[1:3]
    return (
        f'<Style id="c{colour[1:]}">'
        f"<IconStyle><color>ff{turned}</color><scale>0.6</scale><Icon><href>{DOT}</href></Icon></IconStyle>"
        f"<LabelStyle><scale>0.8</scale></LabelStyle>"
        f"<LineStyle><color>ff{turned}</color><width>{_LINE}</width></LineStyle>"
        f"<PolyStyle><color>{_FILL}{turned}</color></PolyStyle></Style>\n"
    )


def _sides(bounds: Bounds) -> str:
    west, south, east, north = bounds
    west, east = (west + 180) % 360 - 180, 180 - (180 - east) % 360
    sides = {"north": north, "south": south, "east": east, "west": west}
    return "".join(f"<{side}>{at:.12g}</{side}>" for side, at in sides.items())
