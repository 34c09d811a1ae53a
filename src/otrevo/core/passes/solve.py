"""Solve: mends replayed, then the body from markers and what guides it, what other devices know, and props."""

import numpy as np

from otrevo.core.devices.catalogue import DEVICES
from otrevo.core.devices.contract import SolvedBody
from otrevo.core.errors import InputError
from otrevo.core.markers.mends import apply_mends
from otrevo.core.passes.contract import Figure, Outcome, Pass, SampleClock, Track
from otrevo.core.props.follow import solve_prop
from otrevo.core.snags import Snag, gap_snags, lost_snags, prop_snags, residual_snags, spike_snags
from otrevo.core.solve.body import solve_take
from otrevo.core.solve.damage import with_damage
from otrevo.core.solve.uncertainty import SolvedMarkers, body_uncertainty


def run(material, parameters, report):
    """The body is solved once for what fills and guiding devices need, and again with them where there are any."""
    stream = material.track("label", "labelled")
    if stream is None:
        raise InputError("The take is not labelled yet; run Label first.")
    performer, rate, clock = material.calibrated_performer(), stream.rate, stream.clock
    labelled, names = stream.read().astype(float), performer.marker_names
    if list(stream.details.get("names", names)) != list(names):
        raise InputError(
            "The take was labelled with other markers than the performer's calibration has; label it again."
        )
    scatter = material.track("label", "marker uncertainty")
    sd_m = None if scatter is None else scatter.read()
    worn = [(d, s) for d in DEVICES if d.id in performer.devices and (s := material.recorded(d.id)) is not None]
    guiding = [(device, s) for device, s in worn if device.guides]
    by_body = any(m.get("method") == "body" and m["kind"] != "cut" for m in material.mends)
    twice = bool(guiding) or by_body
    part = 0.45 if twice else 0.8
    mended = apply_mends(labelled, names, material.mends)
    solution = solve_take(mended, rate, performer, progress=lambda s: report(part * s), sd_m=sd_m)
    times, guides = clock.times(len(labelled)), {}
    if twice:
        body = SolvedBody(performer, solution.motion, np.isfinite(mended[..., 0]), times)
        for device, stream in guiding:
            guides |= device.guides(stream, performer.devices[device.id], body)
        mended = apply_mends(labelled, names, material.mends, solution.predicted_m)
        solution = solve_take(
            mended, rate, performer, guides or None, progress=lambda s: report(0.45 + 0.35 * s), sd_m=sd_m
        )  # fmt: skip
    motion = solution.motion
    for device, stream in worn:
        if device.completes:
            motion = device.completes(stream, performer.devices[device.id], motion, times)
    skeleton = motion.skeleton
    tracks = [
        Track("mended", "markers", rate, mended, clock, {"names": list(names)}),
        Track("body rotation", "rotations", rate, motion.rotation_local, clock,
              {"bones": skeleton.names, "parents": skeleton.parents.tolist(), "offsets_m": skeleton.rest_offset_m.tolist()}),
        Track("body root", "places", rate, motion.root_position_m, clock),
        Track("residual", "residuals", rate, solution.marker_residual_m, clock),
    ]  # fmt: skip
    sure, judged = _sureness(solution, performer.model(), labelled, mended)
    tracks.append(_uncertainty_track(sure, rate, clock))
    report(0.86)
    hz, start = clock.hz, clock.start_s
    snags = residual_snags(solution.marker_residual_m, names, hz, start)
    snags += lost_snags(solution.lost, solution.bone_names, hz, start)
    snags += gap_snags(mended, names, hz, start) + spike_snags(mended, names, hz, start)
    snags = with_damage(snags, judged, sure, clock)
    prop_figures = {}
    for prop in material.props:
        _solve_prop(prop, material.track("label", "prop markers", prop.name), tracks, prop_figures, snags)
    report(0.9)
    for device, stream in worn:
        tracks += _device_track(device, stream, performer, material.duration_s)
    figures = solution.figures | {
        "mends": len(material.mends), "guided_bones": sorted(guides), "frames": len(motion), "rate": str(rate),
        "props": prop_figures, "joint_sd_mm": float(1000 * np.median(sure.sd_m)),
        "joint_sd_worst_mm": float(1000 * sure.sd_m.max()),
    }  # fmt: skip
    return Outcome(tuple(tracks), figures, tuple(snags))


def _sureness(solution, model, labelled, mended):
    """(BodyUncertainty, SolvedMarkers): what was really seen tells of the body; what a mend filled in does not."""
    index = [solution.motion.skeleton.index(b) for b in model.skeleton.names]
    judged = SolvedMarkers(
        model, mended, solution.predicted_m, solution.motion.root_position_m, solution.motion.rotation_local[:, index],
        solution.weight, solution.target_weight,
    )  # fmt: skip
    seen = np.isfinite(labelled[..., 0]) & np.isfinite(mended[..., 0])
    sure = body_uncertainty(
        model, judged.root_m, judged.rotation_local, seen, judged.weight, judged.target_weight, float(solution.motion.rate)
    )  # fmt: skip
    return sure, judged


def _uncertainty_track(sure, rate, clock):
    step = int(sure.frames[1] - sure.frames[0]) if len(sure.frames) > 1 else 1
    details = {"bones": list(sure.bones), "usual_m": [round(float(v), 5) for v in sure.usual_m]}
    own = SampleClock(clock.start_s, clock.hz / step)
    return Track("joint uncertainty", "uncertainty", rate / step, sure.sd_m, own, details)


def _solve_prop(prop, stream, tracks, figures, snags):
    """A prop as a rigid body: one pose track, position and rotation."""
    if stream is None:
        return
    labelled, clock = stream.read().astype(float), stream.clock
    try:
        solution = solve_prop(labelled, stream.rate, prop)
    except InputError as error:
        end = clock.start_s + len(labelled) / clock.hz
        snags.append(
            Snag("lost prop", "prop", clock.start_s, end, 5.0, str(error), "three markers seen at once", prop.name)
        )
        return
    pose = np.concatenate([solution.motion.root_position_m, solution.motion.rotation_local[:, 0]], axis=1)
    details = {"prop": prop.name, "offsets_m": prop.offset_m.tolist(), "names": prop.marker_names}
    tracks.append(Track("prop pose", "pose", stream.rate, pose, clock, details, prop.name))
    figures[prop.name] = solution.figures
    snags += prop_snags(prop.name, solution, clock.hz, clock.start_s)


def _device_track(device, stream, performer, duration_s):
    """What a device adds to the take, as a list of one Track or none."""
    made = device.track(stream, performer.devices[device.id], duration_s) if device.track else None
    if made is None:
        return []
    clock = SampleClock(0.0, float(stream.rate))
    details = {"device": device.id, "names": list(device.channel_names())}
    return [Track(made.name, made.kind, stream.rate, made.values, clock, details)]


def _aside(figures):
    return f"worst {figures['worst_marker']}" if figures.get("worst_marker") else ""


PASS = Pass(
    name="solve",
    words="Solve",
    doing="solving",
    done="solved",
    figure=Figure(
        "residual_rms_mm", "mm", 8.0,
        "Distance of the markers from the solved body, RMS. Skin moves 2 to 8 mm over bone, so up to 8 mm is good.",
    ),
    run=run,
    aside=_aside,
    needs=("label", "line up", "performer"),
    about="performer",
)  # fmt: skip
