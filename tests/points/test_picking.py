"""Areas are asked by several threads at once."""

from __future__ import annotations

import pickle
import threading

import numpy as np
import shapely

from zembrel.points.picking import Inside


def test_an_area_answers_threads_alike_from_their_first_question_on() -> None:
    turns = np.linspace(0, 2 * np.pi, 400, endpoint=False)
    reach = 40 + 10 * np.sin(9 * turns)
    ring = shapely.Polygon(np.column_stack((reach * np.cos(turns), reach * np.sin(turns))))
    x, y = np.random.default_rng(1).uniform(-60, 60, (2, 3000))
    expected = shapely.contains_xy(ring, x, y)
    for _ in range(150):
        area = pickle.loads(pickle.dumps(Inside(ring.bounds, ring)))
        gate, found = threading.Barrier(4), []

        def ask(area: Inside = area, gate: threading.Barrier = gate, found: list[np.ndarray] = found) -> None:
            gate.wait()
            found.append(area.mask(x, y))

        threads = [threading.Thread(target=ask) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert len(found) == 4 and all((mask == expected).all() for mask in found)
