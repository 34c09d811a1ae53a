"""A take of which a tracker's rigid bodies tell, as the pass Solve goes through it."""

from fractions import Fraction

import numpy as np

from otrevo.core.body.performer import PerformerCalibration
from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.formats.rigid_bodies_csv import BodiesRecording
from otrevo.core.passes.body_tracks import body_tracks, completed, device_tracks, uncertainty_track, worn_devices
from otrevo.core.passes.contract import Outcome, Parameter, SettingTable, Track
from otrevo.core.rigid.solve import MISFIT_MM, said_of_misfits, solve_bodies
from otrevo.core.snags import Snag, lost_snags
from otrevo.core.words import in_words

FROM_BODIES, CALIBRATED = 0, 1
DOUBTED = 0.5

SKELETON = Parameter(
    "skeleton", "Bones, from rigid bodies", FROM_BODIES, 0, 1, "",
    "How long bones are in a take from a tracker: as its bodies show them, or those of the performer's calibration, and then the path is scaled.",
    1, True, ("from the bodies", "of the calibration"),
)  # fmt: skip
ON = SettingTable(
    "bodies_on",
    "Rigid bodies",
    "Which rigid body is on which limb; as proposed where nothing is said.",
    choices=BODY_BONES,
)
STIFFNESS = SettingTable(
    "stiffness", "Stiffness",
    "How much a joint without a rigid body of its own gives: 0 is loose, 0.5 usual, 1 hardly gives.", of=BODY_BONES,
)  # fmt: skip


def has_bodies(material):
    """Whether there are rigid bodies and nothing that cameras saw."""
    seen = material.track("rebuild", "optical") or material.recorded("optical") or material.track("label", "labelled")
    return seen is None and material.recorded("tracker") is not None


def solve(material, parameters, report):
    """The Outcome of a take of which rigid bodies tell. Raises InputError."""
    stream, performer = material.recorded("tracker"), material.performer
    rows, names = stream.read().astype(float), tuple(stream.details["names"])
    recording = BodiesRecording(names, float(stream.rate), 0.0, rows[..., :3], rows[..., 3:], "m", "Y")
    skeleton = None
    if parameters["skeleton"] == CALIBRATED:
        skeleton = material.calibrated_performer().skeleton
    found = solve_bodies(
        recording, material.height_m, parameters["bodies_on"] or None, skeleton, parameters["stiffness"],
        lambda share: report(0.9 * share), material.performer_name,
    )  # fmt: skip
    clock, rate, motion = stream.clock, Fraction(stream.rate), found.motion
    if performer is None:
        performer = PerformerCalibration(material.height_m, motion.skeleton, "", (), (), np.zeros((0, 3)))
    worn = worn_devices(material, performer)
    motion = completed(motion, worn, performer, clock.times(len(motion)))
    on, where = found.assignment, recording.position_m
    told = {
        "names": list(names), "bones": [on.bones.get(n, "") for n in names],
        "confidence": [on.confidence.get(n, 0.0) for n in names], "residual_mm": [found.residual_mm.get(n) for n in names],
        "left_out": [on.left_out.get(n, "") for n in names],
    }  # fmt: skip
    told |= {"joints": list(found.turned_deg), "turned_deg": list(found.turned_deg.values())}
    unworn = PerformerCalibration(material.height_m, motion.skeleton, "", (), (), np.zeros((0, 3)))
    tracks = body_tracks(motion, unworn, rate, clock)
    sure = found.sure
    step = int(sure.frames[1] - sure.frames[0]) if len(sure.frames) > 1 else 1
    tracks.append(uncertainty_track(sure.bones, sure.sd_m, sure.usual_m, step, rate, clock))
    tracks.append(Track("rigid bodies", "markers", rate, where, clock, told))
    tracks += device_tracks(worn, performer, material.duration_s)
    end = material.duration_s
    used = [i for i, n in enumerate(names) if n in on.bones]
    lost = ~np.isfinite(where[:, used, 0])
    snags = lost_snags(lost, [on.bones[names[i]] for i in used], clock.hz, clock.start_s)
    snags += [
        Snag("body doubted", "tracker", 0.0, end, 2.5, note, "every body on the limb it is named after")
        for note in on.notes
    ]
    for name, bone in on.bones.items():
        if on.confidence[name] < DOUBTED:
            snags.append(Snag("body doubted", name, 0.0, end, 2.0, f"'{name}' is far from where the {in_words(bone)} is in a T-pose",
                              "where its limb is", name))  # fmt: skip
    snags += [
        Snag("body doubted", name, 0.0, end, found.residual_mm[name] / MISFIT_MM, words, f"{MISFIT_MM:.0f} mm", name)
        for name, words in said_of_misfits(found.residual_mm).items()
    ]
    figures = found.figures | {
        "rigid_bodies": len(on.bones), "joint_sd_mm": float(1000 * np.median(sure.sd_m)),
        "joint_sd_worst_mm": float(1000 * sure.sd_m.max()),
    }  # fmt: skip
    return Outcome(tuple(tracks), figures, tuple(snags))
