"""A character in a browser: its file chosen, its map looked at and changed, its warm-up seen, its take played by the animator."""

import cv2
import numpy as np
from django.test import LiveServerTestCase, override_settings
from playwright.sync_api import expect

from otrevo.core.sim.characters.files import FOLDER
from otrevo.server.cast.models import Character
from otrevo.server.handover.models import Package
from otrevo.server.takes.jobs import queue_from
from otrevo.server.work.models import Run
from tests.interface.browser import InBrowser
from tests.server.production import calibrate, make_production, work
from tests.server.recording import streamed_take


# the live server takes every path below an unset static or media address for a file
@override_settings(ALLOWED_HOSTS=["*"], STATIC_URL="/no-static/", MEDIA_URL="/no-media/")
class FromFileToAnimator(InBrowser, LiveServerTestCase):
    def setUp(self):
        super().setUp()
        self.production, self.slate = make_production()
        calibration = calibrate(self.slate.performer)
        self.take = streamed_take(self.slate, "rope haul", 5.0, ("optical",))
        queue_from(self.take, "line up")
        work()
        calibration.warm_up = self.take
        calibration.save(update_fields=["warm_up"])

    def colours(self, view):
        """How many different colours a view shows: a body that is lit shows many, an empty floor few."""
        picture = cv2.imdecode(np.frombuffer(view.screenshot(), np.uint8), cv2.IMREAD_COLOR)
        return len(np.unique(picture.reshape(-1, 3) // 8, axis=0))

    def test_a_take_reaches_the_animator_on_their_character(self):
        page = self.sign_in("technician")
        self.at(page, "cast")
        page.get_by_role("button", name="New character").click()
        page.locator("input[type=file]").set_input_files(FOLDER / "wick.glb")
        expect(page.get_by_role("heading", name="Wick")).to_be_visible()
        expect(page.get_by_text("centimetres, found out from its size")).to_be_visible()
        page.get_by_role("group", name="Played by").get_by_text("Ines").click()
        self.eventually(lambda: Character.objects.get().players.count(), 1)
        sheet = page.get_by_role("group", name="Map sheet")
        expect(sheet.get_by_text("UpperArm_L", exact=True)).to_be_visible()
        view = page.get_by_role("group", name="Ines's warm-up on Wick")
        expect(view.locator("canvas")).to_be_visible()
        expect(page.get_by_label("How the warm-up follows")).to_contain_text("arms within 0.0°")
        page.get_by_role("button", name="alone").click()
        self.eventually(lambda: self.colours(view) > 60, True)
        work()  # whom Ines plays now, her take is put on
        # a bone is taken out of the map, and the map is a new version
        sheet.get_by_role("button", name="neck").click()
        self.choose(page, "neck moves", "nothing")
        expect(page.get_by_text("map v2")).to_be_visible()
        expect(sheet.get_by_text("not there").first).to_be_visible()
        self.assertIn("character=", page.url)
        page.get_by_role("button", name="undo, back to v1").click()
        expect(page.get_by_text("map v3")).to_be_visible()

        self.at(page, f"bench/{self.take.pk}")
        expect(page.get_by_role("region", name="Retarget Wick")).to_contain_text("mm")
        self.choose(page, "Look at", "Wick")
        stage = page.get_by_role("group", name="3D view")
        expect(stage).to_contain_text("Wick · as it leaves")
        self.eventually(lambda: self.colours(stage) > 60, True)
        page.get_by_role("button", name="Settings of Retarget Wick").click()
        page.get_by_label("hips height").fill("1.1")
        page.get_by_role("button", name="Run again, and all that follows").click()
        self.eventually(lambda: Run.objects.filter(name="retarget", state="queued").count(), 1)
        work()
        self.assertEqual(Run.objects.filter(name="retarget").last().parameters["hips_height"], 1.1)

        self.at(page, "handover")
        page.get_by_role("group", name="Takes").get_by_text("take 1").click()
        page.get_by_role("button", name="Package 1 take").click()
        self.eventually(lambda: Package.objects.count(), 1)
        work()
        package = Package.objects.get()
        self.assertEqual((package.state, package.message), ("ready", ""))
        package.state = Package.State.SENT
        package.save(update_fields=["state"])

        animator = self.sign_in("animator")
        self.at(animator, f"handover/{package.pk}")
        played = animator.get_by_role("img", name="Wick, as delivered")
        expect(played.locator("canvas")).to_be_visible()
        self.eventually(lambda: self.colours(played) > 60, True)
        expect(animator.get_by_text("_Wick.glb")).to_be_visible()

    def test_a_file_that_is_no_character_says_so_and_a_long_name_fits(self):
        page = self.sign_in("technician")
        self.at(page, "cast?new-character")
        wrong = {"name": "table.glb", "mimeType": "model/gltf-binary", "buffer": b"glTF nothing of the kind"}
        page.locator("input[type=file]").set_input_files(wrong)
        expect(page.get_by_text("table.glb: a GLB of version")).to_be_visible()
        long = {
            "name": f"{'lampkeeper-of-the-northern-light-' * 3}.glb",
            "mimeType": "",
            "buffer": (FOLDER / "gull.glb").read_bytes(),
        }
        page.locator("input[type=file]").set_input_files(long)
        expect(page.get_by_role("heading", level=1)).to_contain_text("Lampkeeper")
        wide = page.evaluate("document.documentElement.scrollWidth - window.innerWidth")
        self.assertLessEqual(wide, 0)
