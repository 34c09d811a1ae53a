"""Solve: mends replayed, then the body from markers and what guides it, what other devices know, and props."""

import hashlib
import json
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from otrevo.core.body.performer import PerformerCalibration
from otrevo.core.devices.contract import Guides, SolvedBody
from otrevo.core.errors import InputError
from otrevo.core.markers.mends import apply_mends, differing_frames, replay_mends
from otrevo.core.passes import rigid_bodies, suit_alone
from otrevo.core.passes.body_tracks import body_tracks, completed, device_tracks, uncertainty_track, worn_devices
from otrevo.core.passes.contract import Figure, Outcome, Parameter, Pass, SampleClock, Track
from otrevo.core.props.follow import solve_prop
from otrevo.core.snags import Snag, gap_snags, lost_snags, prop_snags, residual_snags, spike_snags
from otrevo.core.solve.after_change import Earlier
from otrevo.core.solve.body import markers_on, solve_take
from otrevo.core.solve.carried_root import carry_root, without_few
from otrevo.core.solve.damage import with_damage
from otrevo.core.solve.uncertainty import SolvedMarkers, as_measured, body_uncertainty

LEVEL = 0  # of the setting `floor`


@dataclass(frozen=True)
class _Labelled:
    """What is solved: labelled_m (T, M, 3) of a performer with its clock and rate; sd_m (T, M) of the points, or None.

    worn: (Device, TakeStream) of what the performer wore and is calibrated for; mends: to be replayed; made_of: what
    all of this is, but for the mends, as letters, or "" where that is not known.
    """

    labelled_m: np.ndarray
    performer: PerformerCalibration
    rate: Fraction
    clock: SampleClock
    sd_m: np.ndarray | None
    worn: tuple
    mends: list
    made_of: str

    def solved(self, solution, mended_m):
        """The SolvedBody that devices take from."""
        times = self.clock.times(len(mended_m))
        return SolvedBody(self.performer, solution.motion, np.isfinite(mended_m[..., 0]), times)

    def guides(self, body):
        """The Guides of all devices that guide a solve: world rotations {bone: (T, 4)}, figures by device."""
        world, figures, felt, snags, stray_rad = {}, {}, None, (), {}
        for device, stream in self.worn:
            if device.guides:
                found = device.guides(stream, self.performer.devices[device.id], body)
                world |= found.world
                stray_rad |= found.stray_rad
                figures |= {device.id: found.figures} if found.figures else {}
                felt, snags = felt or found.felt, snags + found.snags
        return Guides(world, figures, felt, snags, stray_rad)


def _labelled(material):
    stream = material.track("label", "labelled")
    if stream is None:
        raise InputError("The take is not labelled yet; run Label first.")
    performer = material.calibrated_performer()
    if list(stream.details.get("names", performer.marker_names)) != list(performer.marker_names):
        raise InputError(
            "The take was labelled with other markers than the performer's calibration has; label it again."
        )
    scatter = material.track("label", "marker uncertainty")
    worn = worn_devices(material, performer)
    sources = [stream, *([scatter] if scatter else []), *(s for _, s in worn)]
    made_of = ""
    if all(s.identity for s in sources):
        known = [performer.to_document(), [(s.identity, s.clock.start_s, s.clock.hz) for s in sources]]
        made_of = hashlib.sha256(json.dumps(known, sort_keys=True, default=str).encode()).hexdigest()[:16]
    return _Labelled(
        stream.read().astype(float), performer, stream.rate, stream.clock, None if scatter is None else scatter.read(),
        worn, list(material.mends), made_of,
    )  # fmt: skip


def _by_body(mends):
    """Whether any of the mends fills from the solved body."""
    return any(m.get("method") == "body" and m["kind"] != "cut" for m in mends)


def _solve_whole(take, report):
    """(Solution, mended markers, guides): every frame, and again where a guiding device or a fill from the body tells more."""
    names = take.performer.marker_names
    mended = apply_mends(take.labelled_m, names, take.mends)
    shown = without_few(mended)
    solution = solve_take(shown, take.rate, take.performer, progress=lambda s: report(0.6 * s), sd_m=take.sd_m)
    guides = take.guides(take.solved(solution, shown))
    if not (guides.world or _by_body(take.mends)):
        return solution, mended, guides
    filled = apply_mends(take.labelled_m, names, take.mends, solution.predicted_m)
    earlier = Earlier(solution.motion, differing_frames(mended, filled))
    solution = solve_take(
        without_few(filled), take.rate, take.performer, guides.world, lambda s: report(0.6 + 0.2 * s), take.sd_m, earlier
    )  # fmt: skip
    return replace(solution, solved=np.ones_like(solution.solved)), filled, guides


def _solve_changed(take, material, report):
    """(Solution, mended markers, guides) where only mends have changed since the last solve; None where more has."""
    before, motion = material.track("solve", "mended"), material.solved_motion(take.performer)
    told = before.details if before else {}
    if not take.made_of or told.get("made_of") != take.made_of or told.get("mends", []) == take.mends or motion is None:
        return None
    names, mended_before = take.performer.marker_names, before.read().astype(float)
    mends_before = told.get("mends", [])
    predicted = markers_on(take.performer, motion) if _by_body(mends_before + take.mends) else None
    mended = replay_mends(take.labelled_m, names, mends_before, take.mends, mended_before, predicted)
    seen_before = np.isfinite(without_few(mended_before)[..., 0])
    body = SolvedBody(take.performer, motion, seen_before, take.clock.times(len(mended_before)))
    guides = take.guides(body)
    earlier = Earlier(motion, differing_frames(mended_before, mended), body.seen)
    shown = without_few(mended)
    solution = solve_take(shown, take.rate, take.performer, guides.world, lambda s: report(0.8 * s), take.sd_m, earlier)
    return solution, mended, guides


def run(material, parameters, report):
    """The body, props and what devices add. After a change of mends alone, frames are solved again where it tells."""
    if rigid_bodies.has_bodies(material):
        return rigid_bodies.solve(material, parameters, report)
    if suit_alone.has_suit_alone(material) or suit_alone.wears_suit_alone(material.performer):
        return suit_alone.solve(material, material.calibrated_performer(), parameters["floor"] == LEVEL, report)
    take = _labelled(material)
    solution, mended, guides = _solve_changed(take, material, report) or _solve_whole(take, report)
    rate, clock, names = take.rate, take.clock, take.performer.marker_names
    motion, times = solution.motion, clock.times(len(mended))
    motion, carried = carry_root(motion, np.isfinite(mended[..., 0]), guides.felt)
    motion = completed(motion, take.worn, take.performer, times)
    tracks = [
        Track("mended", "markers", rate, mended, clock,
              {"names": list(names), "mends": take.mends, "made_of": take.made_of}),
        *body_tracks(motion, take.performer, rate, clock),
        Track("residual", "residuals", rate, solution.marker_residual_m, clock),
    ]  # fmt: skip
    sure, judged = _sureness(solution, take.performer.model(), take.labelled_m, mended, guides, carried)
    step = int(sure.frames[1] - sure.frames[0]) if len(sure.frames) > 1 else 1
    tracks.append(uncertainty_track(sure.bones, sure.sd_m, sure.usual_m, step, rate, clock))
    report(0.86)
    hz, start = clock.hz, clock.start_s
    snags = residual_snags(solution.marker_residual_m, names, hz, start)
    snags += lost_snags(solution.lost, solution.bone_names, hz, start)
    snags += gap_snags(mended, names, hz, start) + spike_snags(mended, names, hz, start)
    snags = [*with_damage(snags, judged, sure, clock), *guides.snags]
    prop_figures = {}
    for prop in material.props:
        _solve_prop(prop, material.track("label", "prop markers", prop.name), tracks, prop_figures, snags)
    report(0.9)
    tracks += device_tracks(take.worn, take.performer, material.duration_s)
    figures = solution.figures | {
        "mends": len(material.mends), "guided_bones": sorted(guides.world), "guides": guides.figures, "carried_frames": int(carried.sum()), "frames": len(motion),
        "frames_solved": int(solution.solved.sum()), "rate": str(rate),
        "props": prop_figures, "joint_sd_mm": float(1000 * np.median(sure.sd_m)),
        "joint_sd_worst_mm": float(1000 * sure.sd_m.max()),
    }  # fmt: skip
    return Outcome(tuple(tracks), figures, tuple(snags))


def _sureness(solution, model, labelled, mended, guides, carried):
    """(BodyUncertainty, SolvedMarkers): what was really seen tells of the body; what a mend filled in does not.

    carried (T,): where what a sensor of the Guides feels carries the root.
    """
    names = model.skeleton.names
    index = [solution.motion.skeleton.index(b) for b in names]
    target_weight = solution.target_weight.copy()
    for bone in guides.stray_rad.keys() & set(names):  # sensors count for as much as they tell in this take
        led = target_weight[:, names.index(bone)]
        np.minimum(led, 1.0 / max(guides.stray_rad[bone], 1e-3) ** 2, out=led)
    judged = SolvedMarkers(
        model, mended, solution.predicted_m, solution.motion.root_position_m, solution.motion.rotation_local[:, index],
        solution.weight, target_weight,
    )  # fmt: skip
    seen = np.isfinite(labelled[..., 0]) & np.isfinite(without_few(mended)[..., 0])
    rate = float(solution.motion.rate)
    weight = as_measured(solution.weight, np.where(seen, solution.marker_residual_m, np.nan), len(index), rate)
    density = np.where(carried, guides.felt.density, np.nan) if guides.felt else None
    sure = body_uncertainty(
        model, judged.root_m, judged.rotation_local, seen, weight, target_weight, rate, sensor_density=density
    )
    return sure, judged


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


def _aside(figures):
    if figures.get("rigid_bodies"):
        return f"{figures['rigid_bodies']} rigid bodies"
    if figures.get("suit_alone"):
        return f"from the suit, joints ± {figures['joint_sd_deg']:.0f}°"
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
    streams=("cameras", "optical", "suit", "tracker"),
    parameters=(
        Parameter("floor", "Floor, without markers", LEVEL, 0, 1, "",
                  "What feet and hands come to stand on in a take from the suit alone: one floor and steps of it, or anything, as in climbing.",
                  1, True, ("level", "climbing")),
        rigid_bodies.SKELETON,
    ),
    tables=(rigid_bodies.ON, rigid_bodies.STIFFNESS),
)  # fmt: skip
