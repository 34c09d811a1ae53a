"""Snags: everything a pass found wrong, in one list, ranked by how much worse than acceptable it is.

Where a function takes samples it takes their clock too: rate_hz, as fitted, and start_s, the take time of sample 0.
"""

from dataclasses import asdict, dataclass

import numpy as np

from otrevo.core.conventions import find_runs

GAP_LIMIT_S = 0.25
SPIKE_LIMIT_M = 0.012
RESIDUAL_LIMIT_M = 0.025
LOST_LIMIT_S = 0.2
NAMELESS_LIMIT = 0.01
OFFSET_LIMIT_S = 0.001
PACKET_LIMIT_S = 0.1
PROP_LIMIT_M = 0.005
SHORT_GAP_S = 0.12


@dataclass(frozen=True)
class Snag:
    """kind; stream; start_s and end_s in take time; severity = measured over its stated limit (1 = just acceptable);
    text: what is wrong; limit: the limit in words; proposal: how to mend it, or None when a person must decide.
    damage_mm: what it may put the joints of the body wrong by, where that is known and the severity comes from it.
    """

    kind: str
    stream: str
    start_s: float
    end_s: float
    severity: float
    text: str
    limit: str
    subject: str = ""
    proposal: dict | None = None
    damage_mm: float | None = None

    def to_document(self):
        return asdict(self)


def ranked(snags):
    """Worst first; equal severities in time order."""
    return sorted(snags, key=lambda s: (-s.severity, s.start_s, s.subject))


def gap_snags(labelled_m, names, rate_hz, start_s=0.0):
    """Gaps of named markers, with the fill that suits their length."""
    out = []
    for m, name in enumerate(names):
        hidden = ~np.isfinite(labelled_m[:, m, 0])
        if hidden.all():
            out.append(Snag("missing marker", "optical", start_s, start_s + len(hidden) / rate_hz, 1.5, f"{name}: never seen",
                            "every marker of the chart seen", name))  # fmt: skip
            continue
        for s, e in find_runs(hidden):
            length = (e - s) / rate_hz
            if length < GAP_LIMIT_S:
                continue
            method = "curve" if length <= SHORT_GAP_S else "body"
            out.append(
                Snag(
                    "gap", "optical", start_s + s / rate_hz, start_s + e / rate_hz, length / GAP_LIMIT_S, f"{name}: gap {length:.2f} s",
                    f"a gap of {GAP_LIMIT_S} s", name,
                    {"kind": "fill", "method": method, "marker": name, "start": int(s), "end": int(e)},
                )
            )  # fmt: skip
    return out


def spike_snags(labelled_m, names, rate_hz, start_s=0.0):
    """Samples that leave the path of their neighbours and come straight back."""
    out = []
    for m, name in enumerate(names):
        p = np.ascontiguousarray(labelled_m[:, m].T)
        if p.shape[1] < 5:
            continue
        away = p[:, 2:-2] - (4 * (p[:, 1:-3] + p[:, 3:-1]) - p[:, :-4] - p[:, 4:]) / 6
        off = np.sqrt((away**2).sum(axis=0))
        high = np.zeros(p.shape[1], dtype=bool)
        high[2:-2] = off > SPIKE_LIMIT_M
        for s, e in find_runs(high):
            size = float(np.nanmax(off[s - 2 : e - 2]))
            out.append(
                Snag(
                    "spike", "optical", start_s + s / rate_hz, start_s + e / rate_hz, size / SPIKE_LIMIT_M, f"{name}: spike {1000 * size:.0f} mm",
                    f"{1000 * SPIKE_LIMIT_M:.0f} mm off the path", name,
                    {"kind": "cut and fill", "method": "curve", "marker": name, "start": int(s), "end": int(e)},
                )
            )  # fmt: skip
    return out


def residual_snags(residual_m, names, rate_hz, start_s=0.0):
    """Stretches in which a marker sits further from the solved body than skin explains."""
    out = []
    for m, name in enumerate(names):
        for s, e in find_runs(np.nan_to_num(residual_m[:, m]) > RESIDUAL_LIMIT_M):
            if (e - s) / rate_hz < 0.04:
                continue
            worst = float(np.nanmax(residual_m[s:e, m]))
            out.append(
                Snag(
                    "off the body", "optical", start_s + s / rate_hz, start_s + e / rate_hz, worst / RESIDUAL_LIMIT_M,
                    f"{name}: {1000 * worst:.0f} mm off the solved body", f"{1000 * RESIDUAL_LIMIT_M:.0f} mm", name,
                    {"kind": "cut and fill", "method": "body", "marker": name, "start": int(s), "end": int(e)},
                )
            )  # fmt: skip
    return out


def lost_snags(lost, bone_names, rate_hz, start_s=0.0):
    """Limbs that nothing measured for longer than the limit."""
    out = []
    for b, name in enumerate(bone_names):
        if not name.endswith(("UpperArm", "LowerArm", "Hand", "UpperLeg", "LowerLeg", "Foot", "head")):
            continue
        for s, e in find_runs(lost[:, b]):
            length = (e - s) / rate_hz
            if length > LOST_LIMIT_S and e - s < len(lost):
                out.append(
                    Snag("lost limb", "body", start_s + s / rate_hz, start_s + e / rate_hz, length / LOST_LIMIT_S,
                         f"{name}: unmeasured for {length:.2f} s", f"{LOST_LIMIT_S} s", name)
                )  # fmt: skip
    return out


def prop_snags(name, solution, rate_hz, start_s=0.0):
    """Where a prop was lost, and where its markers sit wrong on it."""
    out = []
    for s, e in find_runs(solution.lost):
        length = (e - s) / rate_hz
        if length > LOST_LIMIT_S:
            out.append(Snag("lost prop", "prop", start_s + s / rate_hz, start_s + e / rate_hz, length / LOST_LIMIT_S,
                            f"{name}: not seen for {length:.2f} s, held where it was", f"{LOST_LIMIT_S} s", name))  # fmt: skip
    worst = np.nan_to_num(solution.residual_m).max(axis=1)
    for s, e in find_runs(worst > PROP_LIMIT_M):
        if (e - s) / rate_hz >= 0.04:
            size = float(worst[s:e].max())
            out.append(Snag("bent prop", "prop", start_s + s / rate_hz, start_s + e / rate_hz, size / PROP_LIMIT_M,
                            f"{name}: a marker {1000 * size:.0f} mm off its place", f"{1000 * PROP_LIMIT_M:.0f} mm", name))  # fmt: skip
    return out


def nameless_snag(labels, rate_hz, start_s=0.0):
    """Points that no marker claims, as one snag when they are too many."""
    share = 1.0 - labels.figures["named_share"]
    if share <= NAMELESS_LIMIT:
        return []
    return [Snag("nameless points", "optical", start_s, start_s + len(labels.labels) / rate_hz, share / NAMELESS_LIMIT,
                 f"{share:.1%} of points have no name", f"{NAMELESS_LIMIT:.0%}")]  # fmt: skip


def lineup_snags(stream, fit, duration_s):
    """What the clock of a stream has wrong."""
    out = []
    if fit.problem:
        out.append(Snag("wrong rate", stream, 0.0, duration_s, 10.0, f"{stream}: {fit.problem}", "200 ppm", stream))
    error = fit.residual_s
    if error > OFFSET_LIMIT_S:
        out.append(Snag("unsure line-up", stream, 0.0, duration_s, error / OFFSET_LIMIT_S,
                        f"{stream}: stamps scatter by {1000 * error:.1f} ms", "1 ms", stream))  # fmt: skip
    for sample in fit.jumps:
        out.append(Snag("timecode jump", stream, 0.0, duration_s, 5.0, f"{stream}: stamps jump at sample {sample}",
                        "no jump", stream))  # fmt: skip
    return out


def dropout_snags(stream, present, rate_hz, start_s=0.0):
    """Stretches without data in a regular stream; `present` (T,) boolean at rate_hz."""
    out = []
    for s, e in find_runs(~present):
        length = (e - s) / rate_hz
        if length >= PACKET_LIMIT_S:
            out.append(Snag("drop-out", stream, start_s + s / rate_hz, start_s + e / rate_hz, length / PACKET_LIMIT_S,
                            f"{stream}: nothing received for {length:.2f} s", f"{PACKET_LIMIT_S} s", stream))  # fmt: skip
    return out
