"""Compile the frame loops into Numba's cache at set-up, on a small made-up take, so that the first real take is quick."""

from concurrent.futures import ProcessPoolExecutor
from fractions import Fraction

import numpy as np

from otrevo.core import compiled_quaternions  # noqa: F401 compiled as it is loaded, before the processes below part
from otrevo.core.body.kinematics import Motion
from otrevo.core.body.performer import PerformerCalibration
from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.characters.character import read_character
from otrevo.core.characters.sheet import propose_sheet
from otrevo.core.conventions import quaternion_from_rotvec
from otrevo.core.errors import InputError
from otrevo.core.inertial.calibration import SuitCalibration, sure_apart
from otrevo.core.inertial.recording import SuitRecording
from otrevo.core.inertial.turned_sensors import find_turned_sensors
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.markers.label import label_take
from otrevo.core.optics.accuracy import expected_sd
from otrevo.core.optics.calibrate import calibrate_sweep
from otrevo.core.optics.picture_reading import read_pictures
from otrevo.core.optics.place_again import Recording, place_again
from otrevo.core.optics.rebuild import rebuild
from otrevo.core.optics.rig import RigCamera
from otrevo.core.optics.trust import measure_trust
from otrevo.core.optics.wand import SHIPPED_WANDS
from otrevo.core.optics.wand_reading import wand_shape
from otrevo.core.props.follow import find_prop, solve_prop
from otrevo.core.props.prop import SHIPPED
from otrevo.core.retarget.transfer import retarget
from otrevo.core.sim.characters.files import FOLDER
from otrevo.core.sim.rig import film, make_rig, sweep
from otrevo.core.solve.body import solve_take
from otrevo.core.solve.uncertainty import body_uncertainty, influence
from otrevo.core.timecode.clap import clap_in_points
from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.core.timecode.ltc import read_ltc
from otrevo.core.warm_up.geometry_fit import fit_geometry, pose_all


def somebody():
    """A performer with the shipped chart."""
    chart = shipped_chart()
    return PerformerCalibration(1.75, generic_skeleton(), chart.name, chart.names, chart.bones, chart.offset_m)


def bodies():
    """Labels, solving, geometry, clap, timecode."""
    performer = somebody()
    model = performer.model()
    joints = np.cumsum(np.zeros((len(model.skeleton.names), 3)), axis=0)
    for b, parent in enumerate(model.skeleton.parents):
        joints[b] = model.skeleton.rest_offset_m[b] + (joints[parent] if parent >= 0 else 0)
    cloud = joints[model.marker_bone] + model.marker_offset_m
    points = np.repeat(cloud[None], 60, axis=0)
    labels = label_take(points, Fraction(120), model)
    solve_take(labels.labelled_m, Fraction(120), performer)
    fit_geometry(model, labels.labelled_m[:30], labels.root_m[:30], labels.local[:30], 1)
    pose_all(model, labels.root_m[:30], labels.local[:30])
    clap_in_points(points, np.arange(60) / 120)
    try:
        read_ltc(np.sin(np.arange(48000) * 0.31), 48000, TimecodeFormat(Fraction(25)))
    except InputError:
        pass  # a tone is no timecode; the loops are compiled all the same


def sureness():
    """How sure a body is, what a marker that is off does to it, and props."""
    model = somebody().model()
    bones, markers = len(model.skeleton.names), len(model.marker_names)
    root, local = np.zeros((60, 3)), np.tile([0.0, 0, 0, 1], (60, bones, 1))
    weight, no_sensor = np.full((60, markers), 1e4), np.zeros((60, bones))
    seen = np.ones((60, markers), dtype=bool)
    seen[20:30, :20] = False
    body_uncertainty(model, root, local, seen, weight, no_sensor, 120.0)
    influence(model, root[0], local[0], weight[0], no_sensor[0], 0, np.array([0.1, 0.0, 0.0]))
    prop = SHIPPED["lantern"]
    markers = np.repeat(prop.offset_m[None] + [0.0, 1.0, 0.0], 60, axis=0)
    find_prop(markers, Fraction(120), prop)
    solve_prop(markers, Fraction(120), prop)


def sweeps():
    """Reading and following wands, adjusting cameras."""
    rig = make_rig(1, 4)
    wand = SHIPPED_WANDS["quay corner"]
    centroids, _ = film(rig, sweep(1, wand, 4.0)[0], 1)
    cameras = [RigCamera(c.name, c.width, c.height, c.lens[0]) for c in rig]
    found = calibrate_sweep(centroids, cameras, wand)
    expected_sd(found.cameras, np.array([[0.0, 1.0, 0.0]]), 0.1, found.covariance)
    triangle, lens = wand_shape(SHIPPED_WANDS["dory triangle"]), np.array([c.lens for c in rig])
    read_pictures(triangle, centroids, centroids.groups(len(rig)), np.arange(1), lens)


def points():
    """Rebuilding points, measuring trust, placing a camera anew."""
    rig = make_rig(1, 4)
    positions = np.repeat(np.array([[[0.0, 1.0, 0.0], [0.3, 1.2, 0.1]]]), 120, axis=0)
    bodies_in_the_way = np.zeros((120, 1, 2, 3)), np.ones(1) * 0.1
    centroids, _ = film(rig, positions, 1, bodies=bodies_in_the_way)
    found = rebuild(centroids, rig, Fraction(100))
    measure_trust(found.points_m, centroids, rig, Fraction(100))
    place_again(rig, 0, [Recording(positions, centroids, 0, np.zeros(2))], 1e-8 * np.eye(15 * len(rig)))


def characters():
    """A body on a character."""
    skeleton = generic_skeleton()
    still = np.tile([0.0, 0.0, 0.0, 1.0], (8, len(skeleton.names), 1))
    motion = Motion(skeleton, Fraction(120), np.tile(skeleton.rest_offset_m[0], (8, 1)), still)
    character, proposal = read_character(FOLDER / "gull.glb")
    retarget(motion, character, propose_sheet(character, proposal))


def sensors():
    """Where two sensors meet, and whether something turns one of them: the search finds the links first."""
    names, samples = ("hips", "chest"), 600
    rng = np.random.default_rng(1)
    rotation = quaternion_from_rotvec(rng.normal(0, 0.1, (samples, 2, 3)))
    recording = SuitRecording(names, 100.0, 0.0, rotation, rng.normal(0, 1.0, (samples, 2, 3)) + [0.0, 9.81, 0.0])
    seat, joint = sure_apart(names, np.ones(2))
    known = {"spine": (np.array([0.0, 0.1, 0.0]), np.array([0.0, -0.1, 0.0]))}
    mount, none = np.tile([0.0, 0.0, 0.0, 1.0], (2, 1)), np.zeros(2)
    find_turned_sensors(recording, SuitCalibration(names, mount, none, none, 0.0, none, seat, joint, known))


def main():
    with ProcessPoolExecutor() as pool:
        for done in [pool.submit(part) for part in (bodies, sweeps, points, sureness, characters, sensors)]:
            done.result()


if __name__ == "__main__":
    main()
