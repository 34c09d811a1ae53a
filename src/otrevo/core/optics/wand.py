"""Wands: rigid arrangements of three to six markers with known distances (`wand/1` in docs/formats.md)."""

from dataclasses import dataclass
from itertools import permutations

import numpy as np

from otrevo.core.conventions import rigid_move
from otrevo.core.errors import InputError

FEWEST, MOST = 3, 6
STRAIGHT_M = 0.004  # markers this near to one line count as a line
APART_M = 0.02
ALIKE_M = 0.015
SIDES_DIFFER = 0.1  # of a triangle


@dataclass(frozen=True)
class Wand:
    """markers_m (M, 3) in the wand's frame; origin_m (3,), front and up (3,) unit vectors: what its rest on the floor
    means, each None when not said."""

    name: str
    markers_m: np.ndarray
    origin_m: np.ndarray | None = None
    front: np.ndarray | None = None
    up: np.ndarray | None = None

    @property
    def straight(self):
        """Whether all markers lie on one line."""
        return bool(np.linalg.svd(self.markers_m - self.markers_m.mean(0), compute_uv=False)[1] < STRAIGHT_M)

    def to_document(self):
        out = {"otrevo": "wand/1", "name": self.name, "markers_m": self.markers_m.tolist()}
        given = {"origin_m": self.origin_m, "front": self.front, "up": self.up}
        return out | {k: v.tolist() for k, v in given.items() if v is not None}


def wand_from_document(document, where="wand"):
    """A checked Wand from a `wand/1` document. Raises InputError naming the place in it."""
    try:
        markers = np.array(document.get("markers_m"), dtype=float)
    except (TypeError, ValueError):
        markers = np.zeros(0)
    if (
        markers.ndim != 2
        or markers.shape[1] != 3
        or not FEWEST <= len(markers) <= MOST
        or not np.isfinite(markers).all()
    ):
        raise InputError(f"{where}: markers_m: expected {FEWEST} to {MOST} places of three numbers, in metres.")
    apart = np.linalg.norm(markers[:, None] - markers[None], axis=2)
    if apart.max() > 3.0:
        raise InputError(f"{where}: markers_m: {apart.max():g} m from end to end; is the file in millimetres?")
    np.fill_diagonal(apart, np.inf)
    if apart.min() < APART_M:
        i, j = np.unravel_index(apart.argmin(), apart.shape)
        raise InputError(f"{where}: markers_m: markers {i + 1} and {j + 1} are {1000 * apart.min():.0f} mm apart; at least "
                         f"{1000 * APART_M:.0f} mm are needed.")  # fmt: skip
    more = {}
    for key in ("origin_m", "front", "up"):
        if document.get(key) is None:
            continue
        try:
            value = np.array(document[key], dtype=float)
        except (TypeError, ValueError):
            value = np.zeros(0)
        if value.shape != (3,) or not np.isfinite(value).all() or (key != "origin_m" and np.linalg.norm(value) < 1e-6):
            raise InputError(f"{where}: {key}: expected three numbers.")
        more[key] = value if key == "origin_m" else value / np.linalg.norm(value)
    wand = Wand(str(document.get("name") or "wand"), markers, **more)
    _check_readable(wand, where)
    return wand


def _check_readable(wand, where):
    if wand.straight:
        ends, shares = line_shares(wand)
        if np.abs(np.sort(1 - shares) - np.sort(shares)).max() < 0.08:
            raise InputError(f"{where}: markers_m: the line reads the same from both ends; move an inner marker.")
    elif len(wand.markers_m) == 3:
        sides = np.sort(np.linalg.norm(wand.markers_m - np.roll(wand.markers_m, 1, axis=0), axis=1))
        if (sides[1:] < (1 + SIDES_DIFFER) * sides[:-1]).any():
            raise InputError(
                f"{where}: markers_m: two sides of the triangle differ by less than {SIDES_DIFFER:.0%}, so that its markers cannot "
                "be told apart; move one, or add a fourth."
            )
    elif len(wand.markers_m) > 3 and (same := _alike(wand.markers_m)) is not None:
        raise InputError(
            f"{where}: markers_m: turned over, the wand looks the same with marker {same[0] + 1} in the place of "
            f"{same[1] + 1}; move one of them."
        )


def _alike(x):
    """Two markers that change places when the wand (M, 3) is turned onto itself, within ALIKE_M, or None."""
    apart = np.linalg.norm(x[:, None] - x[None], axis=2)
    for order in map(np.array, permutations(range(len(x)))):
        moved = np.flatnonzero(order != np.arange(len(x)))
        if not len(moved) or np.abs(apart[np.ix_(order, order)] - apart).max() >= ALIKE_M:
            continue
        rotation, shift = rigid_move(x, x[order])
        if (
            np.linalg.norm(x @ rotation.T + shift - x[order], axis=1).max() < ALIKE_M
        ):  # else it is only a mirror picture
            return int(order[moved[0]]), int(moved[0])
    return None


def line_shares(wand):
    """(first, last) numbers of a straight wand's end markers, and where every marker lies between them, 0 to 1, (M,)."""
    x = wand.markers_m
    apart = np.linalg.norm(x[:, None] - x[None], axis=2)
    first, last = sorted(np.unravel_index(apart.argmax(), apart.shape))
    axis = (x[last] - x[first]) / apart[first, last]
    return (int(first), int(last)), (x - x[first]) @ axis / apart[first, last]


def keeper_line():
    """The line wand that ships: three markers on half a metre."""
    return Wand("harbour line", np.array([[0.0, 0, 0], [0.16, 0, 0], [0.5, 0, 0]]))


def keeper_corner():
    """The corner wand that ships: five markers on two arms, laid on the floor with the long arm to the front."""
    markers = np.array([[0.0, 0, 0], [0.12, 0, 0], [0.32, 0, 0], [0, 0, 0.21], [0, 0, 0.5]])
    return Wand("quay corner", markers, np.zeros(3), np.array([0.0, 0, 1]), np.array([0.0, 1, 0]))


def keeper_triangle():
    """The triangle wand that ships: three markers, light enough for one hand."""
    return Wand("dory triangle", np.array([[0.0, 0, 0], [0.3, 0, 0], [0, 0, 0.2]]))


SHIPPED_WANDS = {w.name: w for w in (keeper_line(), keeper_corner(), keeper_triangle())}
