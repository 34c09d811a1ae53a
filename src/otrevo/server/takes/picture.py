"""The small picture of a take for the board: what its lanes really hold, in a few hundred letters, on the take's time."""

import numpy as np

from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.server.takes.material import clocks, latest
from otrevo.server.takes.streams import read_stream

BINS = 160
LETTERS = "0123456789abcdefghijklmnopqrstuvwxyz"
ROWS = 14


def _edges(samples, clock, duration_s):
    """Sample numbers (BINS + 1,) at which equal bins of the take begin and end."""
    at = np.linspace(0.0, duration_s, BINS + 1)
    return np.clip(np.round((at - clock.start_s) * clock.hz), 0, samples).astype(int)


def _binned(values, clock, duration_s):
    """Mean of values (T,) in equal bins of the take, ignoring NaN; NaN where a bin holds nothing."""
    edges, known = _edges(len(values), clock, duration_s), np.isfinite(values)
    total, count = (
        np.diff(np.concatenate([[0.0], np.cumsum(v)])[edges]) for v in (np.where(known, values, 0.0), known)
    )
    return np.where(count > 0, total / np.maximum(count, 1), np.nan)


def _plain(array):
    """Values 0 to 1 as one letter each, in base 36; a dot where there is none. A board shows hundreds of pictures."""
    levels = np.round(np.nan_to_num(np.clip(np.ravel(array), 0.0, 1.0)) * (len(LETTERS) - 1)).astype(int)
    return "".join("." if v != v else LETTERS[n] for v, n in zip(np.ravel(array), levels, strict=True))


def take_picture(take):
    """{"optical" and "tracker": up to ROWS rows of BINS shares seen, "suit": share of packets, "jaw", "sound"}: missing lanes left out."""
    label, rebuild = latest(take, "label"), latest(take, "rebuild")
    streams = list(take.streams.filter(run=None).order_by("id"))
    streams += [t for run in (rebuild, label) if run for t in run.tracks.order_by("id")]
    clock, by_name = clocks(take, streams), {}
    for stream in streams:
        by_name.setdefault(stream.name, stream)
    picture = {}

    def binned(name, values):
        return _binned(values, clock[by_name[name].pk], take.duration_s)

    def seen_rows(name):
        seen = np.isfinite(read_stream(by_name[name])[..., 0]).astype(float)
        groups = np.array_split(seen, min(ROWS, seen.shape[1]), axis=1)
        return [_plain(binned(name, g.mean(axis=1))) for g in groups]

    if "labelled" in by_name:
        picture["optical"] = seen_rows("labelled")
    elif "optical" in by_name:
        count = np.isfinite(read_stream(by_name["optical"])[..., 0]).sum(axis=1).astype(float)
        picture["optical"] = [_plain(binned("optical", count / max(count.max(), 1)))]
    if "tracker" in by_name:
        picture["tracker"] = seen_rows("tracker")
    if "suit" in by_name:
        picture["suit"] = _plain(binned("suit", np.isfinite(read_stream(by_name["suit"])[..., 0]).mean(axis=1)))
    if "face" in by_name:
        jaw = read_stream(by_name["face"])[:, FACE_SHAPES.index("jawOpen")].astype(float)
        picture["jaw"] = _plain(binned("face", jaw))
    if "room" in by_name:
        sound = np.abs(read_stream(by_name["room"]))
        edges = _edges(len(sound), clock[by_name["room"].pk], take.duration_s)
        peaks = [sound[a:b].max() if b > a else np.nan for a, b in zip(edges[:-1], edges[1:], strict=True)]
        picture["sound"] = _plain(np.array(peaks))
    return picture
