"""The line-up pass over a take's stored streams: every clock fitted, the clap sought on every stream that shows it."""

from fractions import Fraction

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.snags import Snag, dropout_snags, lineup_snags
from otrevo.core.timecode.clap import clap_in_accelerations, clap_in_points, clap_in_sound
from otrevo.core.timecode.lineup import ClockFit, drop_frame_problem, fit_clock
from otrevo.core.timecode.ltc import read_ltc
from otrevo.server.streams.store import read_stream

CLAP_LIMIT_S = 0.03


def fits_of(run):
    """ClockFits by stream name from a finished line-up run."""
    return {
        name: ClockFit(f["offset_ms"] / 1000, f["drift_ppm"], f["residual_ms"] / 1000, f["confidence"], f["rejected"])
        for name, f in run.figures["streams"].items()
    }


def line_up(take, optical):
    """Figures and snags of lining up the recorded streams of a take; optical: the Stream of its points, or None.

    Points that were rebuilt run by the cameras' clock, whose stamps they carry."""
    fmt, zero = take.production.timecode_format, take.zero_s
    fits, snags, claps = {}, [], {}
    streams = {s.name: s for s in take.streams.filter(run=None).exclude(kind="centroids")}
    if optical is not None:
        streams["optical"] = optical
    if "timecode" in streams:
        try:
            audio, rate = read_stream(streams["timecode"]), float(_rate(streams["timecode"]))
            reading = read_ltc(audio, rate, fmt)
            seconds = np.array([float(fmt.seconds(f)) for f in reading.frame])
            fits["timecode"] = fit_clock(reading.sample, seconds, rate, zero)
            flags = reading.drop_flag.mean() > 0.5
            if flags != fmt.drop:
                said, seen = ("drop-frame", "non-drop") if fmt.drop else ("non-drop", "drop-frame")
                snags.append(Snag("drop-frame flag", "timecode", 0.0, take.duration_s, 10.0,
                                  f"timecode: the production is {said}, the track is marked {seen}", "no mismatch"))  # fmt: skip
            for jump in reading.jumps:
                at = jump["sample"] / rate
                snags.append(Snag("timecode jump", "timecode", at, at + 0.1, 5.0,
                                  f"timecode: jumps from {jump['from']} to {jump['to']}", "no jump"))  # fmt: skip
        except InputError as error:
            snags.append(
                Snag("no timecode", "timecode", 0.0, take.duration_s, 8.0, f"timecode: {error}", "readable code")
            )
    for name, stream in streams.items():
        rate = float(_rate(stream))
        if name == "room":
            fits[name] = fits.get("timecode") or ClockFit(0.0, 0.0, 0.0, 0.2, 0)
            continue
        if name == "timecode":
            continue
        if stream.stamps:
            stamps = np.array(stream.stamps)
            try:
                fits[name] = fit_clock(stamps[:, 0], stamps[:, 1], rate, zero)
            except InputError as error:
                fits[name] = ClockFit(0.0, 0.0, 0.0, 0.0, 0)
                snags.append(Snag("no timecode", name, 0.0, take.duration_s, 8.0, f"{name}: {error}", "two stamps"))
        else:
            fits[name] = ClockFit(0.0, 0.0, 0.0, 0.3, 0)
        snags += lineup_snags(name, fits[name], take.duration_s)
        data = read_stream(stream)
        present = np.isfinite(data.reshape(len(data), -1)).any(axis=1)
        snags += dropout_snags(name, present, rate, fits[name].offset_s)
        end = fits[name].offset_s + len(data) / rate
        if take.duration_s - end > 1.0:
            snags.append(Snag("stops early", name, end, take.duration_s, (take.duration_s - end) / 0.5,
                              f"{name}: stops {take.duration_s - end:.1f} s before the cut", "0.5 s"))  # fmt: skip
        if name == "optical":
            claps["optical"] = clap_in_points(data, fits[name].times(len(data), rate))
        if name == "suit":
            claps["suit"] = clap_in_accelerations(data[..., 4:7], fits[name].times(len(data), rate))
    hours = zero / 3600
    for name, fit in fits.items():
        reference = fits["optical"].offset_s if "optical" in fits else 0.0
        if problem := drop_frame_problem(fmt.drop, None, fit.offset_s, reference, hours):
            snags.append(
                Snag("drop-frame mixed", name, 0.0, take.duration_s, 10.0, f"{name}: {problem}", "no mismatch", name)
            )
    if "room" in streams:
        audio = read_stream(streams["room"])
        claps["room"] = clap_in_sound(audio, fits["room"].times(len(audio), float(_rate(streams["room"]))))
    claps = {k: v for k, v in claps.items() if v is not None}
    if len(claps) > 1 and np.ptp(list(claps.values())) > CLAP_LIMIT_S:
        apart = float(np.ptp(list(claps.values())))
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
    return figures, snags


def _rate(stream):
    return Fraction(stream.rate)
