"""Line up: every clock of a take fitted, the clap sought on every stream that shows it, drop-outs found."""

import numpy as np

from otrevo.core.devices.catalogue import device_of
from otrevo.core.errors import InputError
from otrevo.core.passes.contract import Figure, Outcome, Pass
from otrevo.core.snags import Snag, dropout_snags, lineup_snags
from otrevo.core.solve.suit_clock import OWN_CLOCK
from otrevo.core.timecode.lineup import ClockFit, drop_frame_problem, fit_clock
from otrevo.core.timecode.ltc import read_ltc

CLAP_LIMIT_S = 0.03
EARLY_LIMIT_S = 1.0
MISSING_LIMIT_S, TOLD_S = 0.1, 0.02
WITHIN_S = 0.25  # packets of a device and pictures do not end at one moment
UNSTAMPED_CONFIDENCE, CLAPPED_CONFIDENCE = 0.3, 0.6


def label_of(stream, everybody):
    """What a stream is called in the figures: its name, and whose it is where several people wear the same."""
    same = [s for s in everybody if s.name == stream.name]
    return f"{stream.name} {stream.owner}" if stream.owner and len(same) > 1 else stream.name


def run(material, parameters, report):
    """Fitted clocks, residuals and claps by stream."""
    streams = {label_of(s, material.streams): s for s in material.streams if s.kind not in ("centroids", "motion")}
    rebuilt = material.track("rebuild", "optical")
    if rebuilt is not None:
        streams["optical"] = rebuilt  # it runs by the cameras' clock, whose stamps it carries
    fits, snags, claps = {}, [], {}
    code = streams.pop("timecode", None)
    if code is not None:
        fits["timecode"] = _read_code(code, material, snags)
    for number, (name, stream) in enumerate(streams.items()):
        device = device_of(stream.name)
        if device is not None and not device.stamped:
            fits[name] = fits.get("timecode") or ClockFit(0.0, 0.0, 0.0, 0.2, 0)
        else:
            fits[name] = _fit(name, stream, material, snags)
        data = stream.read()
        times = fits[name].times(len(data), float(stream.rate))
        if stream.kind != "audio" and not _has_own_clock(stream):
            snags += _coverage_snags(name, data, times, material.duration_s)
        clap = device.clap(data, times) if device and device.clap and len(data) > 1 else None
        if clap is not None:
            claps[name] = clap
        report((number + 1) / len(streams))
    for name, stream in streams.items():
        if _has_own_clock(stream):
            snags += _lined_up_by_clap(name, stream, streams, fits, claps, material.duration_s)
    reference = fits["optical"].offset_s if "optical" in fits else 0.0
    for name, fit in fits.items():
        problem = drop_frame_problem(
            material.timecode_format.drop, None, fit.offset_s, reference, material.zero_s / 3600
        )
        if problem:
            snags.append(
                Snag(
                    "drop-frame mixed", name, 0.0, material.duration_s, 10.0, f"{name}: {problem}", "no mismatch", name
                )
            )
    missing = [snag for s in material.streams if s.kind == "centroids" for snag in _missing_snags(s)]
    snags = missing + [s for s in snags if not _told(s, missing)]
    apart = float(np.ptp(list(claps.values()))) if claps else 0.0
    if apart > CLAP_LIMIT_S:
        snags.append(Snag("clap apart", "room", min(claps.values()), max(claps.values()), apart / CLAP_LIMIT_S,
                          f"the clap is {1000 * apart:.0f} ms apart between {' and '.join(claps)}", "30 ms"))  # fmt: skip
    figures = {
        "streams": {
            name: {
                "offset_ms": 1000 * f.offset_s, "drift_ppm": f.drift_ppm, "residual_ms": 1000 * f.residual_s,
                "confidence": f.confidence, "rejected": f.rejected, "problem": f.problem,
            }
            for name, f in fits.items()
        },
        "claps_s": claps,
        "worst_residual_ms": max((1000 * f.residual_s for f in fits.values()), default=0.0),
    }  # fmt: skip
    return Outcome((), figures, tuple(snags))


def _read_code(stream, material, snags):
    """The ClockFit of a timecode track by what it says, or None where it says nothing that can be read."""
    fmt, rate = material.timecode_format, float(stream.rate)
    try:
        reading = read_ltc(stream.read(), rate, fmt)
        seconds = np.array([float(fmt.seconds(f)) for f in reading.frame])
        fit = fit_clock(reading.sample, seconds, rate, material.zero_s)
    except InputError as error:
        snags.append(
            Snag("no timecode", "timecode", 0.0, material.duration_s, 8.0, f"timecode: {error}", "readable code")
        )
        return ClockFit(0.0, 0.0, 0.0, 0.0, 0)
    if (reading.drop_flag.mean() > 0.5) != fmt.drop:
        said, seen = ("drop-frame", "non-drop") if fmt.drop else ("non-drop", "drop-frame")
        snags.append(Snag("drop-frame flag", "timecode", 0.0, material.duration_s, 10.0,
                          f"timecode: the production is {said}, the track is marked {seen}", "no mismatch"))  # fmt: skip
    for jump in reading.jumps:
        at = jump["sample"] / rate
        snags.append(Snag("timecode jump", "timecode", at, at + 0.1, 5.0,
                          f"timecode: jumps from {jump['from']} to {jump['to']}", "no jump"))  # fmt: skip
    return fit


def _fit(name, stream, material, snags):
    """The ClockFit of a stream by its stamps; without any it begins at the take's zero."""
    if not len(stream.stamps):
        return ClockFit(0.0, 0.0, 0.0, UNSTAMPED_CONFIDENCE, 0)
    stamps = np.asarray(stream.stamps, dtype=float)
    try:
        fit = fit_clock(stamps[:, 0], stamps[:, 1], float(stream.rate), material.zero_s)
    except InputError as error:
        snags.append(Snag("no timecode", name, 0.0, material.duration_s, 8.0, f"{name}: {error}", "two stamps"))
        return ClockFit(0.0, 0.0, 0.0, 0.0, 0)
    snags += lineup_snags(name, fit, material.duration_s)
    return fit


def _has_own_clock(stream):
    """Whether it came as a file of a device that nobody synchronised."""
    return stream.details.get("clock") == OWN_CLOCK


def _lined_up_by_clap(name, stream, streams, fits, claps, duration_s):
    """Move a stream with a clock of its own to where the others show the clap, in fits and claps; what it lacks, as Snags.

    Without a clap it stays at the take's zero, and nobody knows yet whether it stops before the cut: how it moves will tell.
    """
    others = [at for other, at in claps.items() if not _has_own_clock(streams[other])]
    clapped = bool(others) and name in claps
    if clapped:
        offset_s = float(np.median(others)) - claps[name]
        fits[name] = ClockFit(offset_s, 0.0, 0.0, CLAPPED_CONFIDENCE, 0)
        claps[name] += offset_s
    data = stream.read()
    times = fits[name].times(len(data), float(stream.rate))
    return _coverage_snags(name, data, times, duration_s if clapped else times[-1])


def _missing_snags(stream):
    """Where nothing was recorded of what the cameras saw, as the recorder says."""
    return [
        Snag("not recorded", stream.name, start, end, (end - start) / MISSING_LIMIT_S,
             f"{stream.name}: nothing was recorded for {1000 * (end - start):.0f} ms", f"{1000 * MISSING_LIMIT_S:.0f} ms")
        for start, end in stream.details.get("missing", ()) if end - start > TOLD_S
    ]  # fmt: skip


def _told(snag, missing):
    """Whether a drop-out is said already by what was not recorded: of the rebuilt points where it touches that, of a device where
    it lies within.
    """
    if snag.kind != "drop-out":
        return False
    if snag.subject == "optical":
        return any(m.start_s < snag.end_s and snag.start_s < m.end_s for m in missing)
    return any(m.start_s - WITHIN_S < snag.start_s and snag.end_s < m.end_s + WITHIN_S for m in missing)


def _coverage_snags(name, data, times, duration_s):
    """Where a regular stream delivered nothing: in between, and before the cut."""
    if len(data) < 2:
        return []
    hz = 1 / (times[1] - times[0])
    present = np.isfinite(data.reshape(len(data), -1)).any(axis=1)
    snags = dropout_snags(name, present, hz, times[0])
    missing = duration_s - (times[-1] + 1 / hz)
    if missing > EARLY_LIMIT_S:
        snags.append(Snag("stops early", name, duration_s - missing, duration_s, missing / 0.5,
                          f"{name}: stops {missing:.1f} s before the cut", "0.5 s"))  # fmt: skip
    return snags


def _aside(figures):
    count = len(figures.get("streams", {}))
    return "1 stream" if count == 1 else f"{count} streams"


PASS = Pass(
    name="line up",
    words="Line up",
    doing="lining up",
    done="lined up",
    figure=Figure(
        "worst_residual_ms", "ms", 1.0,
        "Scatter of the timecode stamps about the fitted clock, worst stream. Up to 1 ms is good.", 1, "±",
    ),
    run=run,
    aside=_aside,
    needs=("rebuild",),
)  # fmt: skip
