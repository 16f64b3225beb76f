"""Classes of points: names of the standard, and colours of ours.

Source: LAS Specification 1.4 R15, tables 9 and 17.
"""

from __future__ import annotations

from zembrel.raster.legend import Legend, LegendEntry

CLASSES: dict[int, tuple[str, tuple[int, int, int]]] = {
    0: ("never classified", (178, 176, 168)), 1: ("unclassified", (150, 148, 142)),
    2: ("ground", (176, 132, 92)),
    3: ("low vegetation", (190, 208, 128)), 4: ("medium vegetation", (130, 176, 98)),
    5: ("high vegetation", (62, 118, 68)), 6: ("building", (188, 84, 62)), 7: ("low noise", (222, 60, 140)),
    8: ("key point", (120, 84, 56)), 9: ("water", (82, 136, 168)), 10: ("rail", (92, 84, 110)),
    11: ("road", (108, 108, 112)), 12: ("overlap", (214, 190, 120)), 13: ("guard wire", (226, 160, 40)),
    14: ("conductor", (240, 190, 60)), 15: ("tower", (150, 92, 140)), 16: ("connector", (206, 140, 80)),
    17: ("bridge deck", (140, 128, 150)), 18: ("high noise", (250, 110, 90)),
}  # fmt: skip


def name_of(number: int) -> str:
    """What a class is called."""
    return CLASSES[number][0] if number in CLASSES else "reserved" if number < 64 else "of the maker"


def legend_of(numbers: list[int]) -> Legend:
    """Names and colours of classes."""
    return Legend(tuple(LegendEntry(n, name_of(n), colour_of(n)) for n in numbers))


def colour_of(number: int) -> tuple[int, int, int]:
    """The colour of a class; of one without a name a grey of its own."""
    if number in CLASSES:
        return CLASSES[number][1]
    return (60 + number * 37 % 160, 60 + number * 59 % 160, 60 + number * 83 % 160)
