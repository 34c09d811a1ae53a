"""A suit's recording that came as a file, with sensors called as others call them: warm-up and take dropped, solved through the queue."""

import gzip
import tempfile
from fractions import Fraction
from pathlib import Path

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase

from otrevo.core.conventions import quaternion_conjugate, quaternion_multiply, rotvec_from_quaternion
from otrevo.core.formats.suit_table import write_suit
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.suit import make_suit, read_suit
from otrevo.server.cast.models import Performer
from otrevo.server.shoot.models import Slate
from otrevo.server.takes.material import latest
from otrevo.server.takes.models import Take
from otrevo.server.takes.streams import read_stream
from tests.server.production import make_production, work
from tests.server.test_server import signed_in

RATE = Fraction(60)
AGE_S = 90.0  # of the suit's clock between warm-up and take
THEIRS = {
    "hips": "Sacrum", "chest": "Sternum", "Shoulder": "Collar", "UpperArm": "Arm", "LowerArm": "ForeArm", "UpperLeg": "Thigh",
    "LowerLeg": "Shank",
}  # fmt: skip


def called(bone):
    side = next((s for s in ("left", "right") if bone.startswith(s)), "")
    limb = bone[len(side) :]
    return f"{THEIRS.get(limb, limb)}{f'_{side[0].upper()}' if side else ''}"


class DroppedSuit(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, slate = make_production()
        cls.jorun = Performer.objects.create(production=cls.production, name="Jorun", height_m=1.74, kit=["suit"])
        cls.warm_up = Slate.objects.create(day=slate.day, name="W3", title="Warm-up", performer=cls.jorun, warm_up=True)
        cls.slate = Slate.objects.create(day=slate.day, name="24", title="Rope", performer=cls.jorun)
        cls.person = make_performer(6, shipped_chart(), 1.74, sloppiness_deg=2.0)

    def drop(self, slate, suit, motion, at_s, name="Jorun.txt"):
        times, rotation, force = read_suit(motion, suit, at_s, at_s)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "suit.csv"
            write_suit(path, times, [called(n) for n in suit.names], rotation, force)
            content = path.read_bytes()
        file = SimpleUploadedFile(name, gzip.compress(content) if name.endswith(".gz") else content)
        answer = signed_in("technician").post(f"/api/slates/{slate.pk}/files", {"files": [file]})
        self.assertEqual(answer.status_code, 200, answer.content)
        work()
        take = Take.objects.get(pk=answer.json()["id"])
        self.assertEqual({r.state for r in take.runs.all()}, {"done"}, [(r.name, r.message) for r in take.runs.all()])
        return take

    def test_a_body_comes_from_two_files(self):
        suit = make_suit(self.person.skeleton, 8)
        self.drop(self.warm_up, suit, perform("suit warm-up", self.person, 8, RATE).motion, 0.0)
        self.assertEqual(self.jorun.calibrations.count(), 1)
        told = signed_in("technician").get(f"/api/productions/{self.production.pk}/cast").json()
        (jorun,) = (p for p in told if p["id"] == self.jorun.pk)
        self.assertIn("estimated from the height", " ".join(jorun["calibrations"][0]["figures"]["notes"]))
        true = perform("rope haul", self.person, 9, RATE).motion
        take = self.drop(self.slate, suit, true, AGE_S, "Jorun.csv.gz")
        stream = take.streams.get(name="suit", run=None)
        self.assertAlmostEqual(stream.details["shown_s"], AGE_S, delta=0.1)
        self.assertIn("Sacrum as pelvis", " ".join(stream.details["notes"]))
        run = latest(take, "solve", self.jorun)
        track = run.tracks.get(name="body rotation")
        mine = read_stream(track).astype(float)
        at = np.minimum(np.arange(len(mine)) * float(RATE) / float(Fraction(track.rate)), len(true) - 1).astype(int)
        names = list(self.person.skeleton.names)
        for joint in ("leftLowerArm", "rightLowerArm", "leftLowerLeg", "rightLowerLeg"):
            b = names.index(joint)
            off = quaternion_multiply(quaternion_conjugate(true.rotation_local[at, b]), mine[:, b])
            self.assertLess(np.degrees(np.linalg.norm(rotvec_from_quaternion(off), axis=1)).mean(), 8.0, joint)

    def test_a_file_that_is_no_suits_is_refused_in_a_sentence(self):
        head = "time,sensor,qx,qy,qz,qw,ax,ay,az"
        for rows, words in (
            (["0.0,knob,0,0,0,1,0,9.81,0"], "no sensor of a suit ('knob')"),
            ([f"{i / 100},pelvis,0,0,0,1,0,32.2,0" for i in range(300)], "expected"),
            ([], "no samples"),
        ):
            file = SimpleUploadedFile("Jorun.csv", "\n".join([head, *rows, ""]).encode())
            answer = signed_in("technician").post(f"/api/slates/{self.slate.pk}/files", {"files": [file]})
            self.assertEqual(answer.status_code, 422, rows[:1])
            self.assertIn("Jorun.csv", answer.json()["detail"])
            self.assertIn(words, answer.json()["detail"])
        self.assertFalse(Take.objects.exists())
