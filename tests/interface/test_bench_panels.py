"""The Bench in a browser: one panel more by a file and a line, and a take of two performers."""

import json
import shutil
import subprocess
import tempfile
from fractions import Fraction
from pathlib import Path

from django.conf import settings
from django.test import LiveServerTestCase, override_settings
from playwright.sync_api import expect

from otrevo.core.sim.stage import roll
from otrevo.server.cast.models import Performer
from otrevo.server.takes.actions import appear, make_take
from otrevo.server.takes.jobs import queue_from
from otrevo.server.takes.models import Mend
from otrevo.server.takes.streams import write_stream
from tests.interface.browser import InBrowser
from tests.server.production import BODY_SEED, calibrate, make_production, work

PANEL = """
import type { BenchPanel } from './contract';

export const tidePanel: BenchPanel = {
  id: 'tide',
  name: 'The tide',
  side: 'side',
  Show: ({ bench }) => {
    if (bench.marker === 0) throw new Error('the tide is out');
    return <p>High water at {bench.labelOf(0)}</p>;
  },
};
"""


# the live server takes every path below an unset static or media address for a file
@override_settings(ALLOWED_HOSTS=["*"], STATIC_URL="/no-static/", MEDIA_URL="/no-media/")
class OnTheBench(InBrowser, LiveServerTestCase):
    def setUp(self):
        super().setUp()
        self.production, self.slate = make_production()
        calibrate(self.slate.performer)
        rolled = roll("rope haul", BODY_SEED, 3, 1.7, self.production.timecode_format, 5000, kit=("optical",))
        self.take = make_take(self.slate, None, duration_s=8.0, out_s=8.0, first_timecode_frame=5000)
        write_stream(self.take, "optical", "points", Fraction(120), rolled.streams["optical"].data[:960])

    def web(self):
        """The front end built from a copy of its sources with one panel more; two files are touched."""
        home = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, home)
        original, web = settings.HOME / "web", home / "web"
        web.mkdir()
        shutil.copytree(original / "src", web / "src")
        (web / "node_modules").symlink_to(original / "node_modules")
        for one in original.iterdir():
            if one.is_file():
                shutil.copy(one, web)
        panels = web / "src" / "bench" / "panels"
        (panels / "tide.tsx").write_text(PANEL)
        index = (panels / "index.ts").read_text()
        self.assertEqual(index.count("  snagsPanel,\n"), 1)
        index = index.replace("  snagsPanel,\n", "  snagsPanel,\n  tidePanel,\n")
        (panels / "index.ts").write_text("import { tidePanel } from './tide';\n" + index)
        # what the panels' list reaches: that all the rest is typed is another check
        of_panels = {
            "extends": "./tsconfig.json",
            "include": [],
            "files": ["src/styled.d.ts", "src/bench/panels/index.ts"],
        }
        (web / "panels.json").write_text(json.dumps(of_panels))
        compiler = "node_modules/typescript-native/bin/tsc"
        for command in (["node", compiler, "--noEmit", "--project", "panels.json"], ["npx", "vite", "build"]):
            done = subprocess.run(command, cwd=web, capture_output=True, text=True)
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        return home

    def test_one_panel_more_is_a_file_and_a_line_and_its_faults_stay_in_it(self):
        queue_from(self.take, "line up")
        work()
        self.enterContext(self.settings(HOME=self.web()))
        page = self.sign_in("technician", f"bench/{self.take.pk}")
        expect(page.get_by_text("High water at")).to_be_visible()
        expect(page.get_by_role("region", name="Snags")).to_be_visible()
        expect(page.locator('[data-lane="optical"] canvas')).to_be_visible()
        page.keyboard.press("ArrowDown")  # the first row of the matrix
        expect(page.get_by_role("alert")).to_contain_text("The tide cannot be shown: the tide is out")
        expect(page.locator('[data-lane="marker"]')).to_be_visible()
        page.keyboard.press("ArrowDown")
        page.get_by_role("button", name="Try again").click()
        expect(page.get_by_text("High water at")).to_be_visible()
        self.faults.clear()  # this panel throws, and React says so too

    def test_two_performers_each_have_their_body_lanes_and_mends(self):
        tomas = Performer.objects.create(production=self.production, name="Tomas", height_m=1.7, kit=["optical"])
        calibrate(tomas)
        appear(self.take, tomas)
        queue_from(self.take, "line up")
        work()
        page = self.sign_in("technician", f"bench/{self.take.pk}")
        snags = page.get_by_role("region", name="Snags")
        lanes = page.get_by_role("group", name="Lanes")
        expect(lanes).to_contain_text("s · Ines")
        expect(page.get_by_text("Ines, Tomas · solved body over markers")).to_be_visible()
        self.choose(page, "Markers and lanes of", "Tomas")
        expect(lanes).to_contain_text("s · Tomas")
        self.assertIn("who=Tomas", page.url)
        # a snag that somebody else has shows their lanes
        mine = snags.get_by_role("listitem").filter(has_text="Ines · ").filter(has_text="gap").first
        mine.click()
        expect(lanes).to_contain_text("s · Ines")
        snags.get_by_role("button", name="Accept", exact=True).click()
        self.eventually(lambda: list(Mend.objects.values_list("performer__name", flat=True)), ["Ines"])
        work()
        solves = self.take.runs.filter(name="solve")
        self.assertEqual(solves.filter(performer=tomas).count(), 1, "his body is not touched by it")
        figures = solves.filter(performer=self.slate.performer).last().figures
        self.assertLess(figures["frames_solved"], figures["frames"])
        expect(page.get_by_role("region", name="Mend")).to_contain_text("1 mended")
