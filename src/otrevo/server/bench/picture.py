"""The small picture of a take for the board: what its lanes really hold, in a few hundred numbers."""

import numpy as np

from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.server.bench.passes import latest, optical_stream
from otrevo.server.streams.store import read_stream, recorded

BINS = 160
ROWS = 14


def _binned(values, bins=BINS):
    """Mean of values (T, ...) in equal time bins, ignoring NaN; NaN where a bin holds nothing."""
    edges = np.linspace(0, len(values), bins + 1).astype(int)
    with np.errstate(invalid="ignore"):
        return np.array([np.nanmean(values[a : max(b, a + 1)], axis=0) if np.isfinite(values[a : max(b, a + 1)]).any() else
                         np.full(values.shape[1:], np.nan) for a, b in zip(edges[:-1], edges[1:], strict=True)])  # fmt: skip


def _plain(array, digits=2):
    return [None if v != v else round(float(v), digits) for v in np.ravel(array)]


def take_picture(take):
    """{"optical": ROWS rows of BINS shares seen, "suit": share of packets, "jaw", "sound"}: missing lanes left out."""
    picture = {}
    label = latest(take, "label")
    if label:
        seen = np.isfinite(read_stream(label.tracks.get(name="labelled"))[..., 0]).astype(float)
        groups = np.array_split(seen, ROWS, axis=1)
        picture["optical"] = [_plain(_binned(g.mean(axis=1))) for g in groups]
    elif (stream := optical_stream(take)) is not None:
        count = np.isfinite(read_stream(stream)[..., 0]).sum(axis=1).astype(float)
        picture["optical"] = [_plain(_binned(count / max(count.max(), 1)))]
    if (stream := recorded(take, "suit")) is not None:
        picture["suit"] = _plain(_binned(np.isfinite(read_stream(stream)[..., 0]).mean(axis=1)))
    if (stream := recorded(take, "face")) is not None:
        picture["jaw"] = _plain(_binned(read_stream(stream)[:, FACE_SHAPES.index("jawOpen")].astype(float)))
    if (stream := recorded(take, "room")) is not None:
        sound = np.abs(read_stream(stream))
        edges = np.linspace(0, len(sound), BINS + 1).astype(int)
        picture["sound"] = _plain(np.maximum.reduceat(sound, edges[:-1])) if len(sound) >= BINS else []
    return picture
