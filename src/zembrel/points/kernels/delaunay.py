"""Delaunay triangles between points of the plane.

After Sinclair, S-hull: a fast radial sweep-hull routine for Delaunay triangulation (2010, arXiv:1604.01428):
points are added by their distance from the circle of a first triangle, each joined to the edges of the hull
that it sees, and edges are turned until no circle of a triangle holds a point (Lawson 1977).
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from zembrel.compiling import kernel, part_of_kernels

Triangles = npt.NDArray[np.int64]  # (n, 3) numbers of points, counterclockwise where y points up
_STACK = 4096  # edges that wait to be looked at; more were not seen in any cloud


def delaunay(places: npt.NDArray[np.float64]) -> Triangles:
    """The triangles between `places` (n, 2); none where all lie on one line.

    No two places may be the same. Of four on one circle either way of cutting may come: who needs one way
    has to move them a little first.
    """
    if len(places) < 3:
        return np.zeros((0, 3), np.int64)
    middle = (places.min(axis=0) + places.max(axis=0)) / 2
    x, y = (np.ascontiguousarray(places[:, axis] - middle[axis]) for axis in (0, 1))
    seed = _seed(x, y)
    if seed[0] < 0:
        return np.zeros((0, 3), np.int64)
    at = _circumcentre(x, y, *seed)
    away = (x - at[0]) ** 2 + (y - at[1]) ** 2
    return np.asarray(_swept(x, y, np.argsort(away, kind="stable"), *seed, *at))


@part_of_kernels
def _turn(ax, ay, bx, by, cx, cy):  # type: ignore[no-untyped-def]
    """Twice the area of a triangle, positive if it runs counterclockwise."""
    return (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)


@kernel
def _circumcentre(x, y, a, b, c):  # type: ignore[no-untyped-def]
    """The middle of the circle through three points."""
    dx, dy, ex, ey = x[b] - x[a], y[b] - y[a], x[c] - x[a], y[c] - y[a]
    one, two = dx * dx + dy * dy, ex * ex + ey * ey
    double = 2.0 * (dx * ey - dy * ex)
    return x[a] + (ey * one - dy * two) / double, y[a] + (dx * two - ex * one) / double


@part_of_kernels
def _in_circle(x, y, a, b, c, p):  # type: ignore[no-untyped-def]
    """Whether p lies inside the circle through a, b, c, which run counterclockwise."""
    dx, dy, ex, ey = x[a] - x[p], y[a] - y[p], x[b] - x[p], y[b] - y[p]
    fx, fy = x[c] - x[p], y[c] - y[p]
    one, two, three = dx * dx + dy * dy, ex * ex + ey * ey, fx * fx + fy * fy
    return dx * (ey * three - two * fy) - dy * (ex * three - two * fx) + one * (ex * fy - ey * fx) > 0.0


@kernel
def _seed(x, y):  # type: ignore[no-untyped-def]
    """Three points near the middle, counterclockwise, with a small circle; -1 where all lie on one line."""
    a = b = c = -1
    least = np.inf
    for n in range(len(x)):
        away = x[n] * x[n] + y[n] * y[n]
        if away < least:
            a, least = n, away
    least = np.inf
    for n in range(len(x)):
        away = (x[n] - x[a]) ** 2 + (y[n] - y[a]) ** 2
        if n != a and away < least:
            b, least = n, away
    least = np.inf
    for n in range(len(x)):
        if n != a and n != b:
            double = _turn(x[a], y[a], x[b], y[b], x[n], y[n])
            if double != 0.0:
                u, v = _circumcentre(x, y, a, b, n)
                radius = (u - x[a]) ** 2 + (v - y[a]) ** 2
                if radius < least:
                    c, least = n, radius
    if c < 0:
        return -1, -1, -1
    if _turn(x[a], y[a], x[b], y[b], x[c], y[c]) < 0:
        b, c = c, b
    return a, b, c


@part_of_kernels
def _slot(dx, dy, size):  # type: ignore[no-untyped-def]
    """Where a direction from the centre stands in a ring of `size`, by an angle that needs no arctangent."""
    share = dx / (abs(dx) + abs(dy) + 1e-300)
    return int(((3.0 - share if dy > 0 else 1.0 + share) / 4.0) * size) % size


@part_of_kernels
def _add(corners, across, count, a, b, c, one, two, three):  # type: ignore[no-untyped-def]
    """Add a triangle whose edges have the edges one, two, three on their other side; the new count."""
    corners[count], corners[count + 1], corners[count + 2] = a, b, c
    for n, other in ((count, one), (count + 1, two), (count + 2, three)):
        across[n] = other
        if other >= 0:
            across[other] = n
    return count + 3


@part_of_kernels
def _settle(first, x, y, corners, across, edge_of, before, stack):  # type: ignore[no-untyped-def]
    """Turn edges from `first` on until no circle holds a point; the edge that ends at the newest point."""
    edge, waiting, last = first, 0, first
    while True:
        other = across[edge]
        base = edge - edge % 3
        right = base + (edge + 2) % 3
        last = right
        if other >= 0:
            there = other - other % 3
            left, far = base + (edge + 1) % 3, there + (other + 2) % 3
            p, q = corners[right], corners[far]
            if _in_circle(x, y, p, corners[edge], corners[left], q):
                corners[edge], corners[other] = q, p
                beyond = across[far]
                if beyond < 0:  # the hull's own edge moved to another triangle
                    e = corners[far]
                    for _ in range(len(edge_of)):
                        if edge_of[e] == far:
                            edge_of[e] = edge
                            break
                        e = before[e]
                across[edge] = beyond
                if beyond >= 0:
                    across[beyond] = edge
                further = across[right]
                across[other] = further
                if further >= 0:
                    across[further] = other
                across[right], across[far] = far, right
                if waiting < len(stack):
                    stack[waiting] = there + (other + 1) % 3
                    waiting += 1
                continue
        if waiting == 0:
            return last
        waiting -= 1
        edge = stack[waiting]


@kernel
def _swept(x, y, order, a, b, c, u, v):  # type: ignore[no-untyped-def]
    """The triangles, (n, 3): points in `order` around the centre (u, v) of the first triangle a, b, c.

    Each point p sees some edges of the hull, from e on; each of them makes a triangle with it, and the hull
    goes over p from then on:

        .. --- e --- o --- o --- m --- ..             .. --- e           m --- ..
                                              becomes         `-- p --'
                        p
    """
    n = len(x)
    corners = np.empty(3 * max(2 * n - 5, 1), np.int64)
    across = np.full(len(corners), -1, np.int64)
    before, after, edge_of = np.zeros(n, np.int64), np.zeros(n, np.int64), np.zeros(n, np.int64)
    size = int(np.ceil(np.sqrt(n)))
    ring = np.full(size, -1, np.int64)
    stack = np.empty(_STACK, np.int64)
    start = a
    after[a] = before[c] = b
    after[b] = before[a] = c
    after[c] = before[b] = a
    edge_of[a], edge_of[b], edge_of[c] = 0, 1, 2
    for p in (a, b, c):
        ring[_slot(x[p] - u, y[p] - v, size)] = p
    count = _add(corners, across, 0, a, b, c, -1, -1, -1)
    for p in order:
        if p in (a, b, c):
            continue
        begin, slot = 0, _slot(x[p] - u, y[p] - v, size)
        for step in range(size):  # a point of the hull in nearly the same direction
            begin = ring[(slot + step) % size]
            if begin >= 0 and begin != after[begin]:
                break
        begin = before[begin]
        e, found = begin, True
        while True:  # the first edge that p sees
            q = after[e]
            if _turn(x[p], y[p], x[e], y[e], x[q], y[q]) < 0:
                break
            e = q
            if e == begin:
                found = False
                break
        if not found:
            continue  # p lies on the hull, as near as numbers tell
        fresh = _add(corners, across, count, e, p, after[e], -1, -1, edge_of[e])
        edge_of[p] = _settle(fresh - 1, x, y, corners, across, edge_of, before, stack)
        edge_of[e] = count
        count = fresh
        m = after[e]
        while True:  # edges that follow
            q = after[m]
            if not _turn(x[p], y[p], x[m], y[m], x[q], y[q]) < 0:
                break
            fresh = _add(corners, across, count, m, p, q, edge_of[p], -1, edge_of[m])
            edge_of[p] = _settle(fresh - 1, x, y, corners, across, edge_of, before, stack)
            after[m] = m  # no more on the hull
            count, m = fresh, q
        if e == begin:
            while True:  # and those that go before
                q = before[e]
                if not _turn(x[p], y[p], x[q], y[q], x[e], y[e]) < 0:
                    break
                fresh = _add(corners, across, count, q, p, e, -1, edge_of[e], edge_of[q])
                _settle(fresh - 1, x, y, corners, across, edge_of, before, stack)
                edge_of[q] = count
                after[e] = e
                count, e = fresh, q
        start = before[p] = e
        after[e] = before[m] = p
        after[p] = m
        ring[_slot(x[p] - u, y[p] - v, size)] = p
        ring[_slot(x[start] - u, y[start] - v, size)] = start
    return corners[:count].reshape(-1, 3)
