"""BVH files as other people write them: units, up axis, letter case, channels, counts. Each must read as the same movement."""

import re
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.conventions import quaternion_from_rotvec
from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import read_bvh, write_bvh


def walked(frames=30):
    """Some movement that is not symmetrical in anything."""
    rng = np.random.default_rng(8)
    skeleton = generic_skeleton(1.68)
    turns = np.cumsum(rng.normal(0, 0.03, (frames, len(skeleton.names), 3)), axis=0)
    root = np.cumsum(rng.normal(0.004, 0.01, (frames, 3)), axis=0) + [0.3, 0.88, -0.2]
    return Motion(skeleton, Fraction(60), root, quaternion_from_rotvec(turns))


def foreign(motion, per_metre=100.0, z_up=False, positions=False, axes="ZXY", add_offset=False):
    """The text of a BVH in other units, axes and channels, written independently of our writer."""
    to_file = np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]]) if z_up else np.eye(3)
    offsets = motion.skeleton.rest_offset_m @ to_file.T * per_metre
    turns = to_file @ Rotation.from_quat(motion.rotation_local.reshape(-1, 4)).as_matrix() @ to_file.T
    angles = Rotation.from_matrix(turns).as_euler(axes, degrees=True).reshape(len(motion), -1, 3)
    root = motion.root_position_m @ to_file.T * per_metre
    parents, names = motion.skeleton.parents, motion.skeleton.names
    lines, columns = ["HIERARCHY"], []

    def joint(b):
        offset = np.zeros(3) if parents[b] < 0 else offsets[b]
        lines.append(f"{'ROOT' if parents[b] < 0 else 'JOINT'} x_{names[b]}")
        lines.append("{")
        lines.append("OFFSET " + " ".join(f"{v:.7f}" for v in offset))
        places = positions or parents[b] < 0
        lines.append(f"CHANNELS {6 if places else 3} {'Xposition Yposition Zposition ' if places else ''}"
                     + " ".join(f"{a}rotation" for a in axes))  # fmt: skip
        if places:
            here = root if parents[b] < 0 else np.tile(offsets[b] * (0.0 if add_offset else 1.0), (len(motion), 1))
            columns.append(here)
        columns.append(angles[:, b])
        children = np.flatnonzero(parents == b)
        for c in children:
            joint(c)
        if len(children) == 0:
            lines.extend(["End Site", "{", "OFFSET 0.0 0.0 0.0", "}"])
        lines.append("}")

    joint(0)
    lines += ["MOTION", f"Frames: {len(motion)}", "Frame Time: 0.0166667"]
    lines += [" ".join(f"{v:.7f}" for v in row) for row in np.concatenate(columns, axis=1)]
    return "\n".join(lines) + "\n"


class Foreign(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "theirs.bvh"
        self.motion = walked()

    def read(self, text):
        self.path.write_text(text)
        return read_bvh(self.path)

    def check(self, text, *words):
        found = self.read(text)
        order = [found.skeleton.names.index(f"x_{n}") for n in self.motion.skeleton.names]
        joints, _ = motion_joints(found)
        true, _ = motion_joints(self.motion)
        self.assertLess(np.abs(joints[: len(true), order] - true).max(), 2e-5)
        self.assertEqual(found.rate, Fraction(60))
        notes = " / ".join(found.notes)
        for word in words:
            self.assertIn(word, notes)
        if not words:
            self.assertEqual(found.notes, ())
        return found

    def test_centimetres_need_no_note(self):
        self.check(foreign(self.motion))

    def test_units_are_found(self):
        for per_metre, word in ((1.0, "metres"), (1000.0, "millimetres"), (100 / 2.54, "inches")):
            with self.subTest(word):
                self.check(foreign(self.motion, per_metre), f"read as {word}")

    def test_a_child_in_centimetres_stays_a_child(self):
        small = Motion(
            generic_skeleton(1.05), self.motion.rate, self.motion.root_position_m, self.motion.rotation_local
        )
        found = self.read(foreign(small))
        self.assertAlmostEqual(
            np.abs(found.skeleton.rest_offset_m).max(), np.abs(small.skeleton.rest_offset_m[1:]).max(), 5
        )

    def test_z_up(self):
        for per_metre in (1.0, 100.0):
            self.check(foreign(self.motion, per_metre, z_up=True), "turned from Z up to Y up")

    def test_positions_on_every_joint(self):
        self.check(foreign(self.motion, positions=True, axes="XYZ"))
        self.check(foreign(self.motion, positions=True, add_offset=True, axes="ZYX"))

    def test_bones_that_stretch_are_said(self):
        text = foreign(self.motion, positions=True)
        head, _, tail = text.partition("Frame Time: 0.0166667\n")
        rows = np.array([[float(v) for v in line.split()] for line in tail.splitlines()])
        rows[:, 6] += np.linspace(-2, 2, len(rows))  # the first bone after the root moves by 2 cm either way
        found = self.read(head + "Frame Time: 0.0166667\n" + "\n".join(" ".join(map(str, r)) for r in rows))
        self.assertIn("change length by up to 20 mm", found.notes[0])

    def test_a_frame_too_many_is_read_with_a_note(self):
        text = foreign(self.motion)
        last = text.rstrip().rsplit("\n", 1)[1]
        found = self.check(text + last + "\n", "says 30 frames and holds 31")
        self.assertEqual(len(found), 31)

    def test_lower_case_comments_tabs_and_blank_lines(self):
        text = foreign(self.motion)
        head, mark, tail = text.partition("MOTION")
        head = re.sub(r"\b(HIERARCHY|ROOT|JOINT|CHANNELS|OFFSET|End Site)\b", lambda m: m[0].lower(), head)
        head = (
            head.replace("rotation", "ROTATION").replace("\n", "\r\n\t\n").replace("hierarchy", "# by hand\nhierarchy")
        )
        self.check(head + "\nmotion" + tail.replace("Frames:", "frames :").replace("Frame Time:", "FRAME TIME:"))

    def test_what_cannot_be_understood_is_refused_in_a_sentence(self):
        text = foreign(self.motion)
        for content, words in (
            (text.replace("Zrotation", "Wrotation", 1), "malformed"),
            (text.replace("OFFSET 0.0 0.0 0.0", "OFFSET 0.0 0.0", 1), "malformed"),
            (text.replace("OFFSET 0.0 0.0 0.0", "OFFSET nan 0.0 0.0", 1), "malformed"),
            (text.replace("Zrotation Xrotation", "Zrotation Zrotation", 1), "malformed"),
            (text.replace("MOTION", "ROOT b\n{\nOFFSET 0 0 0\nCHANNELS 0\n}\nMOTION"), "2 ROOT joints"),
            (text.rsplit("\n", 3)[0] + "\n", "numbers after MOTION"),
            (text + "1.0 2.0\n", "numbers after MOTION"),
            (text + "and so on\n", "not numbers"),
            (text.replace("Frames: 30", "Frames: many"), "Frames"),
        ):
            with self.subTest(words), self.assertRaisesRegex(InputError, words):
                self.read(content)

    def test_a_prop_of_one_joint_stays_in_centimetres(self):
        skeleton = self.motion.skeleton.keep(("hips",))
        write_bvh(
            self.path, Motion(skeleton, Fraction(60), self.motion.root_position_m, self.motion.rotation_local[:, :1])
        )
        np.testing.assert_allclose(read_bvh(self.path).root_position_m, self.motion.root_position_m, atol=1e-6)


if __name__ == "__main__":
    unittest.main()
