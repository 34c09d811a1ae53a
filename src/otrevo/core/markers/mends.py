"""Mends: reversible repairs of named markers, kept as an ordered list and replayed by every later pass.

A mend is a plain document: {"kind": "cut" | "fill" | "cut and fill", "marker", "start", "end" (frames, end exclusive),
"method": "curve" | "body"}. `curve` is a cubic through the samples on both sides (short gaps); `body` rides on the
solved body with the slip over the skin eased from one end to the other (long gaps).
"""

import numpy as np

from otrevo.core.errors import InputError

KINDS = ("cut", "fill", "cut and fill")
SUPPORT = 8


def check_mend(mend, names, frames):
    """Raise InputError when the mend cannot be applied to a take of these markers and this length."""
    if mend.get("kind") not in KINDS:
        raise InputError(f"A mend of kind '{mend.get('kind')}' is not known; expected one of {', '.join(KINDS)}.")
    if mend.get("marker") not in names:
        raise InputError(f"There is no marker '{mend.get('marker')}' in this take.")
    start, end = mend.get("start"), mend.get("end")
    if not (isinstance(start, int) and isinstance(end, int) and 0 <= start < end <= frames):
        raise InputError(f"A mend from frame {start} to {end} lies outside the take's {frames} frames.")
    if mend["kind"] != "cut" and mend.get("method") not in ("curve", "body"):
        raise InputError(f"'{mend.get('method')}' is not a way to fill; expected curve or body.")


def apply_mends(labelled_m, names, mends, predicted_m=None):
    """Replay mends over named markers.

    Parameters
    ----------
    labelled_m : ndarray (T, M, 3)
        Metres, NaN where hidden. It is left alone.
    names : sequence of str
        The M markers.
    mends : sequence of dict
        In the order in which they were accepted.
    predicted_m : ndarray (T, M, 3), optional
        The markers on the solved body, needed by fills of method `body`. Without it they stay gaps.

    Returns
    -------
    ndarray (T, M, 3)
        The mended markers.

    Raises
    ------
    InputError
        When a mend does not fit the take.
    """
    out = labelled_m.copy()
    for mend in mends:
        check_mend(mend, names, len(out))
        m, start, end = names.index(mend["marker"]), mend["start"], mend["end"]
        if mend["kind"] != "fill":
            out[start:end, m] = np.nan
        if mend["kind"] == "cut":
            continue
        if mend["method"] == "curve":
            fill_curve(out[:, m], start, end)
        elif predicted_m is not None:
            fill_from_body(out[:, m], predicted_m[:, m], start, end)
    return out


def differing_frames(one_m, other_m):
    """(T,) frames in which any marker of one (T, M, 3) is not where the other has it, in single precision."""
    one, other = one_m.astype(np.float32), other_m.astype(np.float32)
    return ~((one == other) | (np.isnan(one) & np.isnan(other))).all(axis=(1, 2))


def replay_mends(labelled_m, names, mends_before, mends, mended_before_m, predicted_m):
    """Replay only what differs between two lists of mends.

    Parameters
    ----------
    labelled_m : ndarray (T, M, 3)
        Metres, NaN where hidden, without any mend.
    names : sequence of str
        The M markers.
    mends_before, mends : list of dict
        The mends before and now.
    mended_before_m : ndarray (T, M, 3)
        The markers with the mends before.
    predicted_m : ndarray (T, M, 3) or None
        The markers on the body that was solved from them, as for apply_mends.

    Returns
    -------
    ndarray (T, M, 3)
        The markers with the mends of now.

    Raises
    ------
    InputError
        When a mend does not fit the take.
    """
    same = 0
    while same < min(len(mends_before), len(mends)) and mends_before[same] == mends[same]:
        same += 1
    touched = np.zeros(labelled_m.shape[:2], dtype=bool)

    def reach(mend):
        return slice(max(0, mend["start"] - SUPPORT), mend["end"] + SUPPORT), names.index(mend["marker"])

    for mend in mends_before[same:] + mends[same:]:
        check_mend(mend, names, len(labelled_m))
        touched[reach(mend)] = True
    again, size = [], -1
    while len(again) != size:  # a mend that lies partly in what is replayed is replayed whole
        size = len(again)
        again = [m for m in mends if touched[reach(m)].any()]
        for mend in again:
            touched[reach(mend)] = True
    out = np.where(touched[..., None], labelled_m, mended_before_m)
    return apply_mends(out, names, again, predicted_m)


def fill_curve(path, start, end):
    """Fill the hidden samples of path (T, 3) in [start, end) by a cubic through both neighbours' places and speeds."""
    before, after = _ends(path, start, end)
    if before is None or after is None:
        return
    (t0, p0, v0), (t1, p1, v1) = before, after
    t = np.arange(t0 + 1, t1)
    h = t1 - t0
    s = ((t - t0) / h)[:, None]
    cubic = (
        (2 * s**3 - 3 * s**2 + 1) * p0
        + (s**3 - 2 * s**2 + s) * h * v0
        + (-2 * s**3 + 3 * s**2) * p1
        + (s**3 - s**2) * h * v1
    )
    hidden = np.isnan(path[t0 + 1 : t1, 0])
    path[t0 + 1 : t1][hidden] = cubic[hidden]


def _ends(path, start, end):
    """Place and speed per frame at the last seen sample before and the first after; None at an open end."""

    def one(indices):
        if len(indices) == 0:
            return None
        at = indices[0]
        speed = np.zeros(3)
        if len(indices) > 1:
            degree = 2 if len(indices) >= 5 else 1  # a straight line would give the speed of the middle, not of the end
            speed = np.polyfit(indices - at, path[indices], degree)[-2]
        return at, path[at], speed

    before = np.flatnonzero(np.isfinite(path[max(0, start - SUPPORT) : start, 0]))[::-1] + max(0, start - SUPPORT)
    after = np.flatnonzero(np.isfinite(path[end : end + SUPPORT, 0])) + end
    return one(before), one(after)


def fill_from_body(path, predicted, start, end):
    """Fill path (T, 3) from the marker's place on the solved body, slip eased between both ends."""
    before, after = _ends(path, start, end)
    slip0 = before[1] - predicted[before[0]] if before else None
    slip1 = after[1] - predicted[after[0]] if after else None
    if slip0 is None and slip1 is None:
        slip0 = slip1 = np.zeros(3)
    slip0 = slip1 if slip0 is None else slip0
    slip1 = slip0 if slip1 is None else slip1
    f = ((np.arange(start, end) - start + 1) / (end - start + 1))[:, None]
    ease = f * f * (3 - 2 * f)
    filled = predicted[start:end] + slip0 * (1 - ease) + slip1 * ease
    hidden = np.isnan(path[start:end, 0])
    path[start:end][hidden] = filled[hidden]
