"""Each fact of a receipt in words, by its name; `{values}` stand where they are said (see `saying`)."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from zembrel.cli.deliver.sentences import PACKS
from zembrel.cli.jobwording import JOBS
from zembrel.cli.sheetsentences import SHEETS, first
from zembrel.cli.sourcesentences import SOURCES

Values = Mapping[str, Any]
_SHOWN = 5  # names of many


def _bands_by_name(v: Values) -> str:
    return f"bands {', '.join(v['bands'])} (by name{', others left out' if v['others'] else ''})"


def _breaks(v: Values) -> str:
    unit = f" {v['unit']}" if v["unit"] else ""
    return f"{v['classes']} classes, breaks at {', '.join(v['breaks'])}{unit}"


def _index_bands(v: Values) -> str:
    source = f" ({v['source']})" if v["source"] else ""
    return f"{v['index']} of {', '.join(v['bands'])}{source}"


def _inputs_left_out(v: Values) -> str:
    count = v["inputs"]
    names = first(v["names"], count > len(v["names"]))
    return f"{count:,} input{'s' * (count != 1)} outside the area left out: {names}"


def _limit_passed(v: Values) -> str:
    return f"{v['figure']} is {v['value']:.6g}, {'more' if v['most'] else 'less'} than {v['limit']:g}"


def _sun(v: Values) -> str:
    night = ", below the horizon: no light" if v["altitude"] <= 0 else ""
    return f"sun at {v['azimuth']:.2f} deg, {v['altitude']:.2f} deg high{night}"


def _suns(v: Values) -> str:
    said = "; ".join(f"{azimuth:g} deg, {altitude:g} deg high" for azimuth, altitude in v["suns"])
    return f"sun at {said}" if len(v["suns"]) == 1 else f"suns, blended, at {said}"


_COMMON: Mapping[str, str | Callable[[Values], str]] = {
    "all_have_values": "a value for every point",
    "all_valid": "all cells valid",
    "alpha_fades": "alpha fades in over {over}",
    "and_more": "{more:,} more",
    "aspect_from": "aspect from {north} north",
    "bad_line": "line {number}: {line}",
    "bands_by_name": _bands_by_name,
    "bands_left_out": "bands left out: {bands:list}",
    "bands_by_place": "bands by their place (names differ)",
    "blank_where": lambda v: f"blank where {'not ' if v['kept'] else ''}{v['condition']}",
    "blank_where_empty": "blank where {layer} is empty",
    "breaks": _breaks,
    "fewer_classes": "fewer classes than asked: {made} of {asked}, since values repeat",
    "bridged_within": "bridged where no circle of more than {reach} radius fits between points",
    "brought_onto": "{second} brought onto the cells of {first}",
    "cells_alone": "{cells:,} cells stand alone and make no line",
    "cells_as_polygons": "cells as polygons, empty ones left out",
    "cells_by": "{way}",
    "cells_in_regions": "{cells:,} valid cells in {regions:,} regions",
    "cells_missing": "{cells:,} cells without data inside the area, first at {x:.10g},{y:.10g}",
    "cells_on_ellipsoid": "cells in metres on the ellipsoid, row by row",
    "cells_stretched": "cells in true metres, row by row: the map draws them {times:.3g} times as long",
    "clamped": "{values:,} values held at the ends of the range",
    "code_table": "{lines} line{lines:s} of {table}",
    "codes_all_listed": "every code is in the table",
    "codes_not_listed": lambda v: (
        f"{v['cells']:,} cells of codes {first(v['codes'], v['more'])} are not in the table: "
        + ("kept" if v["kept"] else "void")
    ),
    "coloured_by": lambda v: f"by {v['by']}" + (f", ramp {v['ramp']}" if v["ramp"] else ""),
    "as_colours": "bands {bands:list} as red, green and blue",
    "colours_between": "colours from {low:.6g} to {high:.6g}",
    "colours_kept": "colours as they are",
    "contact_sheet": "a sheet of {layers} layers",
    "contours": "contours every {interval:number}",
    "coordinates_rounded": "coordinates rounded to steps of {steps}, by up to {most:.2g}",
    "corners_cut": "corners cut by up to half a cell",
    "crs_of_most": "CRS {crs} (of most cells)",
    "cut_at_outline": "{features:,} cut at its outline",
    "cut_to_use": "cut to the area of use of {crs}",
    "dark_hours": "{hours} of them with the sun below the horizon: no light",
    "detail_lost": "cells {times:.3g} times as large as native: detail is lost",
    "detail_made_up": "cells {times:.3g} times as small as native: detail is made up",
    "dissolved": "dissolved by value",
    "empty_zones": "{empty:,} of {zones:,} zones hold nothing",
    "every_zone": "every zone holds something",
    "extent_of": "extent of the {what}",
    "features": "{features:,} features",
    "features_coloured": "{layer} {way}",
    "features_in_cells": "{features:,} features in {cells:,} of {of:,} cells",
    "features_kept": "{kept:,} of {of:,} features {side}",
    "features_left_out": "{features:,} faulty feature{features:s} left out",
    "features_mended": "{features:,} faulty feature{features:s} mended",
    "features_that_meet": "features that meet a cell",
    "features_within": "within {reach} of the middles of cells",
    "files_joined": "{number} {sort} of {sizes}",
    "filled_by_mean": "mean by inverse square of distance",
    "filled_by_nearest": "nearest ({kind})",
    "first_rule": lambda v: f"{v['classes']} class{'es' * (v['classes'] != 1)} by the first rule that holds",
    "flattened": "opacity flattened onto {onto}",
    "from_crs": "from {crs}",
    "gains": "gains {lowest:.3f} to {highest:.3f}",
    "given_colours": "{colours} given colours, dither {dither}",
    "grey_not_held": "grey as red, green and blue (WebP holds no grey)",
    "ground_decks": "{area:,.0f} m2 removed as bridge decks, the largest near {x:.0f},{y:.0f}",
    "ground_doubtful": "doubtful: {area:,.0f} m2 of the ground rise on half of their outline, "
    "the largest part near {x:.0f},{y:.0f}",
    "ground_slope": "slope {slope:g}",
    "ground_windows": "cells of {cell:g} m, windows up to {window:g} m",
    "halves": "halves",
    "heights_already": "heights are in {unit} already",
    "heights_in": "heights in {unit}",
    "heights_into": "heights into {unit}",
    "heights_of_crs": "heights in {unit}, as the CRS says",
    "heights_rounded": "heights rounded to whole numbers (the format holds {type})",
    "heights_said": "heights in {unit}, as said",
    "heights_stretched": lambda v: (
        f"heights stretched {v['times']:.2g} times" if v["times"] > 1.05 else "heights to scale"
    ),
    "heights_taken": "heights taken for metres, since nothing says it: --z-unit says otherwise",
    "heights_unlike": "heights of unlike meaning, as they are",
    "highest_points": "the highest point of each dot of {cell:.3g} {unit}, by {by}",
    "hours": "{hours} hours of {day}, {zone}",
    "index_bands": _index_bands,
    "inputs_left_out": _inputs_left_out,
    "inputs_outside": "{inputs} inputs outside the area left out",
    "inset": "inset {letter} {name}",
    "joined_at": "cells joined at {at}",
    "largest_error": "largest error {error:.6g}",
    "layers_written": "{number} layers: {sizes}",
    "legend_colours": "legend colours",
    "legend_not_held": "codes without their legend (the format holds none)",
    "levels": "{levels} levels from {lowest:number} to {highest:number}",
    "limit_passed": _limit_passed,
    "limit_unknown": "{figure} cannot be told, so it cannot hold",
    "limits_hold": "all limits hold",
    "lines": "{what} every {step:number}",
    "lines_end": "lines end where values change",
    "mask_not_held": "invalid cells white (a {format} holds no mask)",
    "median_cut": "{colours} colours by median cut, dither {dither}",
    "method": "method {method} ({why})",
    "names_not_held": "classes lose their names (the format holds colours alone)",
    "native_cells": "native cells",
    "no_contours_none_reached": "no contours: no value is reached",
    "no_contours_nothing_valid": "no contours: nothing is valid",
    "no_contours_too_many": "no contours: {levels:,} of them would be no picture",
    "no_graticule": "no graticule: where the layer lies is unknown",
    "no_lines": "no {what} every {step:number}: none falls in the picture, or over {most} do",
    "nodata": "nodata {nodata:typed}",
    "nodata_as_asked": "nodata {nodata:typed} as asked",
    "nodata_mask": "nodata mask ({why})",
    "nodata_not_told": "the format does not tell nodata: read it with --from-nodata {nodata:typed}",
    "nodata_of_format": "nodata {nodata:g} (of the format)",
    "nodata_usual": "nodata {nodata} where nothing is (usual in the format)",
    "nodes_not_held": "nodes become the middles of cells (the format knows no nodes)",
    "north_turned": "true north lies {turn:+.2f} deg from grid north",
    "nothing_there": "nothing there in {input}",
    "nothing_to_flatten": "nothing to flatten (no opacity)",
    "one_point_of": "one point of {step}",
    "onto": "onto {onto}",
    "onto_degree_cell": "onto the one-degree cell of that name",
    "opacity_added": "full opacity where an input has none",
    "opacity_as_validity": "opacity is all or nothing: kept as validity",
    "opacity_kept": "opacity kept (band alpha)",
    "opacity_left_out": "opacity left out, if no cell is partly transparent",
    "outline": "outline by {by}",
    "page_of_one": "a page of it",
    "palette_not_held": "palette to colour bands ({format} holds no palette)",
    "palette_to_bands": "palette to colour bands",
    "palettes_differ": "palettes to colour bands (they differ)",
    "pin_exact": "a spline passes through every point",
    "pin_left_out": "left out one by one {cells:.2f} cells rms",
    "pin_model": "model {model} through {points} points",
    "pin_residuals": "residuals {rms:.2f} cells rms ({size:.3g} {unit}), worst {worst:.2f}",
    "pin_suspect": "point {point} seems wrong: the others miss it by {cells:.1f} cells",
    "pin_unproved": "no point to spare: nothing proves them",
    "points_counted": "{points:,} {what}",
    "records_lost": "records of {users:list} are lost",
    "points_lose": "{what}: {points:,} points",
    "points_margin": "margin {margin}, {points:,} points marked by the value margin",
    "points_outside_header": "{points:,} points lie outside of what their files say",
    "points_picked": "{points}",
    "quilt_method": "method {method}",
    "ramp": "ramp {ramp}",
    "reach": "reach {reach}",
    "reach_in_cells": "reach {cells:.6g} cells",
    "reach_of_spacings": "reach {reach} ({spacings} mean spacings; --fill gives another)",
    "void_as_ground": "{value:number} is taken for ground: --from-nodata {value:g} if it means nothing",
    "ties_exchanged": "with x and y exchanged it would lie where the CRS is used: were they swapped?",
    "wide_rounded": "whole numbers beyond 2^53 are rounded: formulas compute in double precision",
    "reflectance_needed": "{index} takes reflectances of 0 to 1, {layer} holds {type}",
    "regions_sieved": "{regions:,} regions under {least} cells given to their largest neighbours",
    "regions_without_neighbour": "{regions:,} small ones have none",
    "remark": "{text}",
    "renamed": "{old} is called {new}",
    "results_stood": "{results:,} results stood already and were kept",
    "rounded": "{values:,} values rounded",
    "sampled": lambda v: f"{v['layer']} by {v['way']}" + (f" within {v['reach']}" if v["reach"] else ""),
    "scaled": "scale {scale:number} and offset {offset:number} in {type}",
    "scales_differ": "values of stored scales (they differ)",
    "section_width": "{width:.4g} {unit} wide",
    "shaded": "shaded, sun at {azimuth:g} deg, {altitude:g} deg high",
    "shaded_from_north_west": "shaded from the north-west",
    "shadows_cast": "shadows cast",
    "shadows_followed": "shadows are followed over {cells:,} cells",
    "share_valid": lambda v: f"{min(v['percent'], 99.9):.1f} % of cells valid",  # not all of them
    "simplified": "outlines simplified by {by}, shared borders shared",
    "softened": "surface softened",
    "source_ids": "source IDs by the order of inputs",
    "spurs_taken": "{spurs:,} spurs under {under} cells taken away",
    "steps": "steps {steps}",
    "steps_finest": "steps {steps}, the finest of the inputs",
    "steps_of_all": "steps {steps} of all inputs",
    "stored_without_scale": "stored numbers, without {scales:list}",
    "stretched": "stretched {low:number} to {high:number} over 0 to {top:number}",
    "stretched_each": "each band stretched: {bands:list}",
    "sun": _sun,
    "suns": _suns,
    "thin_best": "the {best} point of each cell of {cell}",
    "thin_by_chance": "{percent:g} % by chance, seed {seed}",
    "thin_every": "every {step}th point of the file",
    "thin_spacing": "no two closer than {spacing} in space",
    "thinned": "{before:,} cells thinned to {after:,}",
    "threshold": "1 {name}, else 0",
    "type_changed": "type {from_type} to {to_type}",
    "type_not_held": "type {held} to {wider} (the format holds no {held})",
    "type_that_holds": "type {type} (holds {types:list})",
    "units_as_they_are": "{one} and {other} are taken as they are, at character {character} of {formula!r}",
    "value_range": "from {low:.6g} to {high:.6g}",
    "values_are_means": "values are means along lines",
    "values_changed": "{values:,} values of {field} {what}",
    "values_missing": "{values:,} value{values:s} missing",
    "values_of_scale": "values of {scales:list} (the format keeps none; --stored writes the numbers)",
    "values_of_scale_as": "values of {scales:list} as {type}",
    "values_rounded": "values rounded",
    "values_shortened": "{values:,} values of {field} shortened",
    "voids_closed": "{closed:,} of {voids:,} void cells closed, {left:,} lie deeper",
    "voids_closed_within": "voids closed within {reach}",
    "whole_features": "whole features that meet it",
    "without_spikes": "without points {height:g} above or below those around them",
    "worked_in": "worked in {crs}",
}
SENTENCES = {**_COMMON, **SHEETS, **PACKS, **SOURCES, **JOBS}
