"""A suit's samples put on one grid: what its sensors may be called, what may be missing or odd, what is refused."""

import unittest

import numpy as np

from otrevo.core.conventions import quaternion_from_rotvec
from otrevo.core.errors import InputError
from otrevo.core.inertial.recording import suit_recording


def rows(seconds=3.0, rate=100, sensors=("pelvis", "chest")):
    """What suit_recording is given of a body that stands still: as many samples of every sensor, none lost."""
    times = np.repeat(np.arange(int(seconds * rate)) / rate, len(sensors))
    number = np.tile(np.arange(len(sensors)), int(seconds * rate))
    rotation = np.tile([0.0, 0.0, 0.0, 1.0], (len(times), 1))
    return times, number, list(sensors), rotation, np.tile([0.0, 9.81, 0.0], (len(times), 1))


class Recordings(unittest.TestCase):
    def test_sensors_may_be_called_as_others_call_them(self):
        sides = "left", "right"
        limbs = ["Shoulder", "UpperArm", "LowerArm", "Hand", "UpperLeg", "LowerLeg", "Foot"]
        bones = ["hips", "chest", "head", *(side + limb for side in sides for limb in limbs)]
        for trunk, theirs, mark in (
            ("Hips Spine2 Head", "Shoulder Arm ForeArm Hand UpLeg Leg Foot", "{side}{limb}"),
            (
                "ines_pelvis ines_sternum ines_head",
                "clavicle upper_arm forearm hand thigh shank foot",
                "ines_{limb}_{side[0]}",
            ),
            ("Sacrum Thorax Cranium", "Scapula Humerus Radius Carpus Femur Tibia Tarsus", "{side} {limb}"),
            ("BECKEN BRUST KOPF", "SCHULTER OBERARM UNTERARM HAND OBERSCHENKEL UNTERSCHENKEL FUSS", "{limb}.{side[0]}"),
        ):
            names = [*trunk.split(), *(mark.format(side=side, limb=limb) for side in sides for limb in theirs.split())]
            with self.subTest(trunk):
                times, number, names, rotation, force = rows(sensors=names)
                turned = np.random.default_rng(4).normal(0, 0.2, (len(names), 3)) * [1, 0, 1]
                recording = suit_recording(times, number, names, quaternion_from_rotvec(turned)[number], force)
                self.assertEqual(set(recording.names), set(bones))
                for bone, one in zip(bones, quaternion_from_rotvec(turned), strict=True):
                    np.testing.assert_allclose(recording.rotation[9, recording.names.index(bone)], one, atol=1e-9)
                self.assertIn(f"{names[0]} as pelvis", " ".join(recording.notes))

    def test_a_name_that_is_ours_goes_before_one_that_only_sounds_like_it(self):
        recording = suit_recording(*rows(sensors=("Waist", "pelvis", "chest", "Spine")))
        self.assertEqual(recording.names, ("hips", "chest"))
        self.assertIn("left out what is not a sensor of a suit: Spine, Waist", recording.notes)

    def test_what_is_odd_is_told(self):
        times, number, names, rotation, force = rows()
        order = np.arange(len(times))
        order[[10, 40]] = order[[40, 10]]
        rotation[7] = np.nan
        found = suit_recording(times[order], number[order], [*names[:1], "torch"], rotation[order], force[order])
        self.assertEqual(found.names, ("hips",))
        self.assertTrue(any("torch" in n for n in found.notes) and any("late" in n for n in found.notes))
        again = suit_recording(*(np.concatenate([x, x[:20]]) for x in (times, number)), names,
                               *(np.concatenate([x, x[:20]]) for x in (rotation, force)))  # fmt: skip
        self.assertTrue(any("twice" in n for n in again.notes))
        self.assertTrue(np.isfinite(again.rotation).sum() > 0)

    def test_other_units_are_found_out_and_told(self):
        times, number, names, rotation, force = rows()
        plain = suit_recording(times, number, names, rotation, force)
        for unit, each_s in (("milliseconds", 1e-3), ("microseconds", 1e-6), ("nanoseconds", 1e-9)):
            found = suit_recording(times / each_s, number, names, rotation, force)
            self.assertIn(f"times are in {unit}", found.notes)
            self.assertEqual(found.rate_hz, plain.rate_hz)
            np.testing.assert_allclose(found.rotation, plain.rotation, atol=1e-9)
        found = suit_recording(times, number, names, rotation, force / 9.81)
        self.assertIn("specific force is in g", found.notes)
        np.testing.assert_allclose(found.force_ms2, plain.force_ms2, atol=1e-9)

    def test_force_that_cannot_be_one_is_refused_with_what_it_is(self):
        times, number, names, rotation, force = rows()
        for wrong, said in ((force * 0.02, "without gravity"), (-force, "upwards"), (force * 3, "9.8 upwards")):
            with self.assertRaisesRegex(InputError, said):
                suit_recording(times, number, names, rotation, wrong)

    def test_a_long_loss_stays_unknown_and_a_short_one_is_bridged(self):
        times, number, names, rotation, force = rows()
        gone = ((times > 1.0) & (times < 1.03)) | ((times > 2.0) & (times < 2.2))
        found = suit_recording(times[~gone], number[~gone], names, rotation[~gone], force[~gone])
        lost = np.isnan(found.rotation[:, 0, 0])
        self.assertFalse(lost[95:110].any())
        self.assertTrue(lost[202:218].all())

    def test_rates_that_no_suit_has(self):
        for seconds, rate in ((20, 4), (0.4, 100)):
            with self.assertRaises(InputError):
                suit_recording(*rows(seconds, rate))
        self.assertEqual(suit_recording(*rows(4.0, 20)).rate_hz, 20.0)


if __name__ == "__main__":
    unittest.main()
