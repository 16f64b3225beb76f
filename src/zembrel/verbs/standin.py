"""standin device: does a simulated device accept a pack, and what does it show?"""

from __future__ import annotations

import importlib
from pathlib import Path
from typing import Annotated, Any

from zembrel.damaged import DAMAGED
from zembrel.engine.commit import Staging, resource_errors
from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.inputs.options import Output
from zembrel.optiontext import OptionText
from zembrel.reading import readings
from zembrel.results.endings import check_ending
from zembrel.results.phrases import show_table
from zembrel.results.receipt import Receipt
from zembrel.standins.verdict import RejectedError, Verdict

Figure = Annotated[str | None, OptionText("Save what the device shows.", "PNG")]
DEVICES = ("controller", "phone", "plotter", "engine")
_FIGURES = (".png",)
_REJECTED = 1  # exit code


def device(output: Output, name: str, pack: str, figure: Figure = None) -> Receipt:
    """What the device called `name` says of a pack, and its screen as a PNG; exit code 1 if it rejects.

    Raises UsageError for a device that is not there, InputError for a pack that is not.
    """
    if name not in DEVICES:
        why = f"there are {', '.join(DEVICES)}"
        raise UsageError(f"there is no stand-in called {name!r}", why, nearest_name(name, DEVICES))
    if figure is not None:
        check_ending(Path(figure), _FIGURES)
    path = Path(pack)
    if not path.exists():
        raise InputError(f"{path} is not there", "no file and no folder has that name", "check the path")
    if path.is_file():
        readings.note(path)
    verdict = _judged(name, path)
    if figure is not None and verdict.screen is not None:
        _write(Path(figure), verdict.screen, output)
    words = "accepted" if verdict.accepted else "rejected"
    rows = [(f"{key}:", str(value)) for key, value in verdict.facts.items()]
    rows += [("because:", reason) for reason in verdict.reasons]
    text = f"{name} {words} {path}\n" + show_table(rows)
    facts: dict[str, Any] = {"device": name, "accepted": verdict.accepted, "reasons": list(verdict.reasons)}
    products = {"figure": Path(figure)} if figure and verdict.screen is not None else {}
    return Receipt(
        "standin device", (path,), data=text, products=products, own=facts | {"shown": verdict.facts},
        exit_code=0 if verdict.accepted else _REJECTED,
    )  # fmt: skip


def _judged(name: str, path: Path) -> Verdict:
    """What a device says, whatever is wrong with the pack."""
    judge = importlib.import_module(f"zembrel.standins.{name}").judge
    try:
        found: Verdict = judge(path)
    except RejectedError as exc:
        return Verdict((str(exc),))
    except DAMAGED as exc:  # none ends in a traceback
        return Verdict((f"it cannot be read: {exc}",))
    return found


def _write(figure: Path, screen: Any, output: Output) -> None:
    from PIL import Image

    with Staging(output.replace) as staging:
        staged = staging.path_for(figure)
        with resource_errors(figure):
            Image.fromarray(screen).save(staged, "PNG")
        staging.publish()
