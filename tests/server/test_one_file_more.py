"""A new pass, format or device is one file and its entry in the catalogue: shown by adding them to a copy of the sources.

The copy runs in a process of its own on this test's database, through the API and the work's own functions.
"""

import json
import os
import shutil
import subprocess
import sys
import tempfile
from fractions import Fraction
from pathlib import Path

from django.conf import settings
from django.db import connection
from django.test import TransactionTestCase

from otrevo.core.sim.stage import roll
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.jobs import queue_from
from otrevo.server.takes.streams import write_stream
from tests.server.production import BODY_SEED, calibrate, make_production, work

PASS = '''
"""Count: how many points are seen, so that somebody has added a pass."""

import numpy as np

from otrevo.core.passes.contract import Figure, Outcome, Parameter, Pass, Track


def run(material, parameters, report):
    stream, _ = material.points()
    seen = np.isfinite(stream.read()[..., 0]).sum(axis=1)
    report(1.0)
    track = Track("seen", "count", stream.rate, seen[:, None] * parameters["times"], stream.clock)
    return Outcome((track,), {"points": float(seen.mean())})


PASS = Pass(
    name="count", words="Count", doing="counting", done="counted", needs=("solve",), run=run, aside=lambda figures: "a frame",
    figure=Figure("points", "points", 40.0, "Points seen in a frame. From 40 on is good.", 0, more_is_better=True),
    parameters=(Parameter("times", "times", 1, 1, 5, "", "Each counts so often. Usual: 1.", 1, True),),
)
'''

FORMAT = '''
"""Heights: the body's root, one height a line."""

from fractions import Fraction

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.contract import FileStream, Format, PackageFile
from otrevo.core.motion_rate import at_rate


def read(path):
    try:
        return np.loadtxt(path, ndmin=1)
    except ValueError:
        raise InputError(f"{path.name}: expected one height a line.") from None


def files(take, rate):
    heights = at_rate(take.motion, rate).root_position_m[:, 1]
    compare = lambda path: {"position_mm": 1000 * float(np.abs(read(path) - heights).max())}  # noqa: E731
    return [PackageFile(".heights", lambda path: np.savetxt(path, heights, fmt="%.6f"), compare)]


FORMAT = Format(
    id="heights", words="Heights, the root", holds="heights", conventions="text, metres", ending=".heights",
    check=lambda path: len(read(path)), files=files, drops=(".heights",),
    streams=lambda path, code: [FileStream("heights", "count", Fraction(60), read(path)[:, None])],
)
'''

DEVICE = '''
"""Breath belt: how far the chest is drawn in."""

from fractions import Fraction

from otrevo.core.devices.contract import Curve, Device, DeviceTrack, Lane


def track(stream, document, duration_s):
    return DeviceTrack("breathing", "breath", stream.read()[: int(duration_s * stream.rate)] / document["reach"])


DEVICE = Device(
    id="breath", words="Breath belt", kind="breath", rate=Fraction(50), shape=(1,), per_packet=5, channels=("drawn in",),
    lane=Lane("chest", 30, "curves", curves=(Curve(0),)), track=track,
    calibrate=lambda stream, solved: {"reach": 2.0}, says=lambda document: ("breathes", ""),
)
'''

SCRIPT = """
import json, sys, tempfile
import django
django.setup()
from django.conf import settings
settings.ALLOWED_HOSTS = ["*"]
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from otrevo.core.package.check import check_package
from otrevo.server.work.execution import carry_out, claim
from otrevo.server.work.models import Run
from otrevo.server.takes.models import Take
from tests.server.recording import Stage

def work():
    while run := Run.objects.filter(state="queued").order_by("id").first():
        carry_out(claim(run.pk), lambda share: None)

take, production, slate = map(int, sys.argv[1:])
client = Client()
client.force_login(User.objects.get(username="technician-SMS"))
said = lambda answer: answer.json() if answer.status_code == 200 else {"refused": answer.json()["detail"]}
post = lambda path, body: said(client.post(f"/api{path}", json.dumps(body), content_type="application/json"))
out = {"formats": client.get("/api/formats").json()}
out["refused"] = post(f"/takes/{take}/passes/count", {"parameters": {"times": 9}})
post(f"/takes/{take}/passes/count", {"parameters": {"times": 2}})
work()
bench = client.get(f"/api/takes/{take}/bench").json()
out["passes"] = bench["passes"]
out["run"] = next((r for r in bench["take"]["runs"] if r["name"] == "count"), None)
out["tracks"] = [s["name"] for s in bench["streams"]]
body = {"name": "p", "take_ids": [take], "formats": ["heights", "bvh"], "rate": "30"}
package = post(f"/productions/{production}/packages", body)
work()
out["package"] = client.get(f"/api/packages/{package['id']}").json()
content = client.get(f"/api/packages/{package['id']}/file").content
with tempfile.NamedTemporaryFile(suffix=".zip") as file:
    file.write(content)
    file.flush()
    out["check"] = check_package(file.name).lines
for name, text in (("a.heights", b"0.9\\n1.0\\n"), ("b.heights", b"tall\\n")):
    out[name] = said(client.post(f"/api/slates/{slate}/files", {"files": SimpleUploadedFile(name, text)}))

Take.objects.get(pk=take).delete()
out["devices"] = client.get("/api/devices").json()
out["kit"] = post(f"/productions/{production}/performers", {"name": "Odalys", "height_m": 1.7, "kit": ["optical", "breath"]})
with Stage() as stage:
    post(f"/slates/{slate}/roll", {})
    stage.received(production, 5)
    rolled = post(f"/slates/{slate}/cut", {})
out["floor"] = client.get(f"/api/slates/{slate}/floor").json()["devices"]
work()
out["note"] = rolled.get("note", rolled)
out["runs"] = {r.name: (r.state, r.message) for r in Run.objects.filter(take_id=rolled["id"])}
bench = client.get(f"/api/takes/{rolled['id']}/bench").json()
out["rolled"] = {s["name"]: s for s in bench["streams"]}
package = post(f"/productions/{production}/packages", {"name": "q", "take_ids": [rolled["id"]], "formats": ["readings"], "rate": "30"})
work()
out["readings"] = client.get(f"/api/packages/{package['id']}").json()
print(json.dumps(out))
"""


class OneFileMore(TransactionTestCase):
    def setUp(self):
        self.production, self.slate = make_production()
        calibration = calibrate(self.slate.performer)
        calibration.document["breath"] = {"reach": 2.0}
        calibration.save()
        self.slate.performer.kit.append("breath")
        self.slate.performer.save()
        rolled = roll("rope haul", BODY_SEED, 3, 1.7, self.production.timecode_format, 5000, kit=("optical",))
        self.take = make_take(self.slate, None, duration_s=8.0, out_s=8.0, first_timecode_frame=5000)
        points = rolled.streams["optical"]
        write_stream(self.take, "optical", points.kind, Fraction(120), points.data[:960])
        queue_from(self.take, "line up")
        work()

    def sources(self):
        """A copy of the sources with one more pass, format and device; two files are touched for each."""
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder)
        core = folder / "src" / "otrevo" / "core"
        core.mkdir(parents=True)
        original = settings.HOME / "src" / "otrevo"
        for one in [*original.iterdir(), *(original / "core").iterdir()]:
            if one.name in ("passes", "formats", "devices"):
                shutil.copytree(one, core / one.name, ignore=shutil.ignore_patterns("__pycache__"))
            elif one.name != "core":  # nothing is changed there, and what was compiled stays compiled
                (folder / "src" / one.relative_to(settings.HOME / "src")).symlink_to(one)
        for where, name, code, last in (
            ("passes", "count", PASS, "solve.PASS"),
            ("formats", "heights", FORMAT, "wav.FORMAT"),
            ("devices", "breath", DEVICE, "room_sound.DEVICE"),
        ):
            (core / where / f"{name}.py").write_text(code)
            catalogue = core / where / "catalogue.py"
            text = catalogue.read_text()
            self.assertEqual(text.count(f"    {last},\n"), 1)
            text = text.replace(f"    {last},\n", f"    {last},\n    {name}.{last.split('.')[1]},\n")
            mark = f"from otrevo.core.{where} import "
            wrapped = f"{mark}(\n" in text
            catalogue.write_text(
                text.replace(f"{mark}(", f"{mark}({name},") if wrapped else text.replace(mark, f"{mark}{name}, ")
            )
        return folder / "src"

    def test_they_are_everywhere_where_such_things_are(self):
        environment = os.environ | {
            "PYTHONPATH": f"{self.sources()}:{settings.HOME}",
            "OTREVO_DB_NAME": connection.settings_dict["NAME"],
        }
        words = [sys.executable, "-c", SCRIPT, *map(str, (self.take.pk, self.production.pk, self.slate.pk))]
        done = subprocess.run(words, env=environment, capture_output=True, text=True, cwd=settings.HOME)
        self.assertEqual(done.returncode, 0, done.stderr[-3000:])
        out = json.loads(done.stdout.splitlines()[-1])
        with self.subTest("the pass is in the strip, run by the queue with its settings, and its track is a stream"):
            self.assertEqual([p["name"] for p in out["passes"]], ["line up", "label", "solve", "count"])
            self.assertEqual(out["passes"][-1]["parameters"][0]["words"], "times")
            self.assertIn("expected a whole number from 1 to 5", out["refused"]["refused"])
            self.assertEqual(
                (out["run"]["state"], out["run"]["done"], out["run"]["aside"]), ("done", "counted", "a frame")
            )
            self.assertRegex(out["run"]["figure"]["text"], r"^\d+ points$")
            self.assertEqual(out["run"]["parameters"], {"times": 2})
            self.assertIn("seen", out["tracks"])
        with self.subTest("the format is in the form, in the package, read back, checked, and can be dropped"):
            self.assertIn({"id": "heights", "words": "Heights, the root", "usual": True}, out["formats"]["delivered"])
            self.assertIn(".heights", out["formats"]["dropped"])
            self.assertEqual((out["package"]["state"], out["package"]["message"]), ("ready", ""))
            self.assertTrue(any(line.startswith("ok") and ".heights" in line for line in out["check"]))
            self.assertEqual(out["check"][-1].split(", ")[1], "0 faults")
            self.assertEqual(out["package"]["manifest"]["conventions"]["heights"], "text, metres")
            self.assertIn("id", out["a.heights"])
            self.assertEqual(out["b.heights"]["refused"], "b.heights: expected one height a line.")
        with self.subTest(
            "the device is in the kit, on the Floor, rolled, lined up, solved, in a lane and in the package"
        ):
            lane = next(d["lane"] for d in out["devices"] if d["id"] == "breath")
            self.assertEqual((lane["detail"], lane["curves"][0]["channel"]), ("chest", 0))
            self.assertEqual(out["kit"]["kit"], ["optical", "breath"])
            self.assertIn({"id": "breath", "words": "Breath belt", "worn": True, "rate_hz": 50.0}, out["floor"])
            self.assertEqual({state for state, _ in out["runs"].values()}, {"done"}, (out["runs"], out["note"]))
            self.assertGreater(out["rolled"]["breath"]["samples"], 150)
            self.assertEqual(out["rolled"]["breath"]["performer"], "Ines")
            self.assertEqual(out["rolled"]["breathing"]["details"]["names"], ["drawn in"])
            self.assertEqual((out["readings"]["state"], out["readings"]["message"]), ("ready", ""))
            self.assertIn("SMS_15_t03_Ines_breath_readings.csv", out["readings"]["manifest"]["takes"][0]["files"])
