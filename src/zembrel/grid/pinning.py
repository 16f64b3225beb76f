"""Placing a picture by tie points: functions from the ground to the picture, fitted by least squares.

Sources: affine and polynomial fits are linear least squares; thin-plate splines: F. L. Bookstein,
"Principal warps: thin-plate splines and the decomposition of deformations", IEEE Transactions on Pattern
Analysis and Machine Intelligence 11 (1989).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError, UsageError, nearest_name

Array = npt.NDArray[np.float64]
MODELS = {"affine": 3, "polynomial2": 6, "polynomial3": 10, "spline": 3}  # and the least number of points
_SUSPECT = 6.0  # times the usual error beyond which a point is called bad
_FEW_SPARE = 10.0
_CANDIDATES = 6  # points of a spline that are tried for being the cause of large errors
_UNSURE = 1e4, 1e8  # from which numbers of condition points hardly determine a polynomial, a spline
_LEAST_SUSPECT = 1.0  # cells that such a point misses by at least


class Ties(NamedTuple):
    """Tie points: places on the ground (n, 2) and in the picture (n, 2: column, row), and their names."""

    ground: Array
    picture: Array
    names: tuple[str, ...]

    def without(self, number: int) -> Ties:
        """All but one."""
        kept = np.arange(len(self.names)) != number
        names = (*self.names[:number], *self.names[number + 1 :])
        return Ties(self.ground[kept], self.picture[kept], names)

    def reversed(self) -> Ties:
        """From the picture to the ground."""
        return Ties(self.picture, self.ground, self.names)


@dataclass(frozen=True, eq=False)
class Pinning:
    """A fitted function of places (x, y), which are brought to numbers around 0 first."""

    model: str
    centre: Array
    spread: float
    weights: Array  # (terms, 2)
    nodes: Array  # (n, 2), of a spline; else (0, 2)

    def __call__(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Column and row in the picture (or x and y on the ground, if it was fitted so)."""
        x, y = np.broadcast_arrays(np.asarray(x, float), np.asarray(y, float))
        places = (np.column_stack([x.ravel(), y.ravel()]) - self.centre) / self.spread
        found = np.empty((len(places), 2))
        for start in range(0, len(places), 20_000):
            part = places[start : start + 20_000]
            found[start : start + 20_000] = _terms(part, self.model, self.nodes) @ self.weights
        return found[:, 0].reshape(x.shape), found[:, 1].reshape(x.shape)


class PinFit(NamedTuple):
    """How tie points fit: residuals and leave-one-out errors in cells, (n,), and which is suspect."""

    residuals: Array
    left_out: Array
    suspect: int | None


def check_model(name: str) -> None:
    """Raise UsageError, with the near miss, for a model that is not there."""
    if name not in MODELS:
        raise UsageError(
            f"there is no model {name!r}", "it says how a picture may be bent", nearest_name(name, MODELS)
        )


def pinned(ties: Ties, model: str) -> Pinning:
    """The function from the ground to the picture. Raises InputError if the points do not determine it."""
    least = MODELS[model]
    if len(ties.names) < least:
        raise InputError(
            f"{len(ties.names)} tie points are too few for {model}",
            f"it takes at least {least}",
            f"give {least} points or more{', or --model affine' * (len(ties.names) >= MODELS['affine'])}",
        )
    centre = ties.ground.mean(axis=0)
    spread = max(float(np.abs(ties.ground - centre).max()), 1e-12)
    places = (ties.ground - centre) / spread
    nodes = places if model == "spline" else np.empty((0, 2))
    terms = _terms(places, model, nodes)
    if model == "spline":
        plane = terms[:, -3:]
        system = np.block([[terms[:, :-3], plane], [np.zeros((3, len(places))), np.zeros((3, 3))]])
        system[-3:, :-3] = plane.T
        wanted = np.vstack([ties.picture, np.zeros((3, 2))])
    else:
        system, wanted = terms, ties.picture
    if np.linalg.matrix_rank(system) < system.shape[1] or np.linalg.cond(system) > _UNSURE[model == "spline"]:
        raise InputError(
            "the tie points lie on a line, or two of them on one spot",
            f"{model} cannot be determined by them",
            "spread the points over the picture",
        )
    weights = np.linalg.lstsq(system, wanted, rcond=None)[0]
    return Pinning(model, centre, spread, weights, nodes)


def _terms(places: Array, model: str, nodes: Array) -> Array:
    """Terms of the model at places, (n, terms)."""
    x, y = places.T
    if model == "spline":
        away = ((places[:, None, :] - nodes[None, :, :]) ** 2).sum(axis=2)
        bent = np.where(away > 0, away * np.log(np.maximum(away, 1e-300)), 0.0)
        return np.column_stack([bent, np.ones(len(x)), x, y])
    order = {"affine": 1, "polynomial2": 2, "polynomial3": 3}[model]
    return np.column_stack([x**i * y**j for i in range(order + 1) for j in range(order + 1 - i)])


def judged(ties: Ties, model: str, fit: Callable[[Ties, str], Pinning] = pinned) -> PinFit:
    """How the points fit, and which of them, if any, seems to be in the wrong place.

    A point left out and missed by more than _SUSPECT times what is usual is suspect. With no point to spare,
    leave-one-out errors are NaN.
    """
    residuals = _missed(fit(ties, model), ties)
    left_out = np.full(len(ties.names), np.nan)
    if len(ties.names) > MODELS[model]:
        for number in range(len(ties.names)):
            alone = Ties(ties.ground[[number]], ties.picture[[number]], (ties.names[number],))
            try:
                left_out[number] = _missed(fit(ties.without(number), model), alone)[0]
            except InputError:
                continue
    if np.isfinite(left_out).sum() < 4:
        return PinFit(residuals, left_out, None)
    worst = _cause(ties, model, fit, left_out)
    far = left_out[worst] > max(_LEAST_SUSPECT, _SUSPECT * _usual(ties, model, fit, left_out, worst))
    return PinFit(residuals, left_out, worst if far else None)


def _usual(ties: Ties, model: str, fit: Callable[[Ties, str], Pinning], left_out: Array, worst: int) -> float:
    """By how much point `worst` would be missed if it were as good as the others, in cells.

    Of a spline, which misses no point it knows, the median of the others left out one by one; else the
    spread of the others about their own fit, widened by how far that has to reach for the point (R. D.
    Cook, S. Weisberg, "Residuals and Influence in Regression", 1982, section 2.2.2: externally studentized
    residuals).
    """
    others = ties.without(worst)
    if model == "spline":
        return _left_out_median(others, model, fit)
    spare = 2 * (len(others.names) - MODELS[model])
    if spare < 1:
        return np.inf
    spread = float(np.sqrt((_missed(fit(others, model), others) ** 2).sum() / spare))
    own = _missed(fit(ties, model), ties)[worst]
    few = 1 + _FEW_SPARE / spare  # a spread known from few numbers is soon too small
    return few * spread * float(np.sqrt(left_out[worst] / max(own, 1e-12)))


def _cause(ties: Ties, model: str, fit: Callable[[Ties, str], Pinning], left_out: Array) -> int:
    """Of the points missed by most, that without which the others fit best: one bad point spoils others."""
    most = _CANDIDATES if model == "spline" else len(left_out)
    known = np.flatnonzero(np.isfinite(left_out))
    candidates = known[np.argsort(-left_out[known])][:most].tolist()

    def rest(number: int) -> float:
        others = ties.without(number)
        if model != "spline":
            return float(np.sqrt((_missed(fit(others, model), others) ** 2).mean()))
        return _left_out_median(others, model, fit)

    best: int = min(candidates, key=rest)
    return best


def _left_out_median(ties: Ties, model: str, fit: Callable[[Ties, str], Pinning]) -> float:
    errors = [
        _missed(fit(ties.without(n), model), Ties(ties.ground[[n]], ties.picture[[n]], ("",)))[0]
        for n in range(len(ties.names))
    ]
    return float(np.median(errors))


def _missed(pinning: Pinning, ties: Ties) -> Array:
    """Distance in cells between where points lie in the picture and where they should."""
    column, row = pinning(ties.ground[:, 0], ties.ground[:, 1])
    missed: Array = np.hypot(column - ties.picture[:, 0], row - ties.picture[:, 1])
    return missed
