"""Props: things carried on stage, each a rigid body known by the places of its markers (`prop/1` in docs/formats.md)."""

from dataclasses import dataclass
from itertools import combinations

import numpy as np

from otrevo.core.body.skeleton import Skeleton
from otrevo.core.errors import InputError
from otrevo.core.markers.rows import read_rows

FEWEST, MOST = 4, 12
ALIKE_M = 0.006  # triangles of markers that are congruent within this cannot be told apart


@dataclass(frozen=True)
class Prop:
    """names (K) of the markers; offset_m (K, 3) from the prop's origin, +Y up as it stands."""

    name: str
    names: tuple[str, ...]
    offset_m: np.ndarray

    @property
    def marker_names(self):
        """Names as they stand beside a body's markers: `lantern cap`."""
        return tuple(f"{self.name} {n}" for n in self.names)

    @property
    def skeleton(self):
        """One bone with the prop's name, for a motion of it."""
        return Skeleton((self.name,), np.array([-1], dtype=np.int64), np.zeros((1, 3)))

    def to_document(self):
        return {
            "otrevo": "prop/1",
            "name": self.name,
            "markers": [
                {"name": n, "offset_m": [round(float(v), 5) for v in o]}
                for n, o in zip(self.names, self.offset_m, strict=True)
            ],
        }


def prop_from_document(document, where="prop"):
    """A checked Prop from a `prop/1` document. Raises InputError naming the place in it."""
    rows = document.get("markers")
    if not isinstance(rows, list) or not FEWEST <= len(rows) <= MOST:
        raise InputError(f"{where}: 'markers' must be a list of {FEWEST} to {MOST} markers.")
    name = document.get("name")
    if not isinstance(name, str) or not name.strip():
        raise InputError(f"{where}: 'name' must say what the prop is called.")
    names, offsets = read_rows(rows, where, "a name and offset_m", 3.0, "origin")
    prop = Prop(name.strip(), names, offsets)
    check_shape(prop, where)
    return prop


def check_shape(prop, where="prop"):
    """Raise InputError when markers lie in one line or two triangles of them are alike, so that names could be mixed."""
    x = prop.offset_m - prop.offset_m.mean(axis=0)
    if np.linalg.svd(x, compute_uv=False)[1] < 0.01:
        raise InputError(f"{where}: the markers lie in one line; a turn about it could not be seen.")
    for a, b in combinations(combinations(range(len(prop.names)), 3), 2):
        for other in _orders(b):
            apart = np.abs(_sides(prop.offset_m, a) - _sides(prop.offset_m, other)).max()
            if apart < ALIKE_M:
                first, second = (", ".join(prop.names[i] for i in t) for t in (a, other))
                raise InputError(
                    f"{where}: the triangles {first} and {second} are alike within {1000 * apart:.0f} mm, so their names "
                    "could be mixed up; move one marker."
                )


def _orders(t):
    a, b, c = t
    return ((a, b, c), (a, c, b), (b, a, c), (b, c, a), (c, a, b), (c, b, a))


def _sides(x, t):
    a, b, c = x[list(t)]
    return np.array([np.linalg.norm(a - b), np.linalg.norm(b - c), np.linalg.norm(c - a)])


def lantern():
    """The signal lantern that ships with Otrevo: origin in the grip of its handle, 0.3 m tall, five markers."""
    return Prop(
        "lantern",
        ("cap", "vent", "pane left", "pane right", "foot"),
        np.array(
            [[0.014, -0.060, 0.020], [0.066, -0.077, -0.017], [0.087, -0.194, 0.045], [-0.097, -0.147, 0.010],
             [0.021, -0.310, -0.070]]
        ),
    )  # fmt: skip


SHIPPED = {"lantern": lantern()}
