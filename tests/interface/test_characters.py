"""A character in a browser: its file chosen, its map looked at and changed, its warm-up seen, its take played by the animator."""

import re
import time
from pathlib import Path
from unittest import mock

import numpy as np
from django.test import LiveServerTestCase, override_settings
from playwright.sync_api import expect

from otrevo.core.characters.guarded import read_guarded
from otrevo.core.sim.characters.files import FOLDER
from otrevo.server.cast.characters import keep_character, set_players
from otrevo.server.cast.models import Character
from otrevo.server.handover.models import Package
from otrevo.server.takes.jobs import passes_of_take, queue_from
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
        self.calibration = calibrate(self.slate.performer)

    def roll(self):
        """A take that is the warm-up as well."""
        self.take = streamed_take(self.slate, "rope haul", 5.0, ("optical",))
        queue_from(self.take, "line up")
        work()
        self.calibration.warm_up = self.take
        self.calibration.save(update_fields=["warm_up"])

    def colours(self, view):
        """How many different colours a view shows: a body that is lit shows many, an empty floor few."""
        return len(np.unique((self.picture(view) // 8).astype(int) @ [1, 32, 1024]))

    def test_a_take_reaches_the_animator_on_their_character(self):
        self.roll()
        page = self.sign_in("technician", "cast")
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

        self.eventually(lambda: Run.objects.filter(name="retarget", state="queued").count(), 1)  # for both changes
        self.at(page, f"bench/{self.take.pk}")
        entry = page.get_by_role("region", name="Retarget Wick")
        expect(entry).to_contain_text("queued")
        work()
        expect(entry).to_contain_text(" mm")
        self.assertEqual(Run.objects.filter(name="retarget").latest("id").figures["map_version"], 3)
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
        expect(entry).to_contain_text(" mm")

        self.at(page, "handover")
        page.get_by_role("group", name="Takes").get_by_text("take 1").click()
        page.get_by_role("button", name="Package 1 take").click()
        self.eventually(lambda: Package.objects.count(), 1)
        work()
        package = Package.objects.get()
        self.assertEqual((package.state, package.message), ("ready", ""))
        package.state = Package.State.SENT
        package.save(update_fields=["state"])

        animator = self.sign_in("animator", f"handover/{package.pk}")
        played = animator.get_by_role("img", name="Wick, as delivered")
        expect(played.locator("canvas")).to_be_visible()
        self.eventually(lambda: self.colours(played) > 60, True)
        expect(animator.get_by_text("_Wick.glb")).to_be_visible()

    def test_a_file_that_is_no_character_says_so_and_a_long_name_fits(self):
        page = self.sign_in("technician", "cast?new-character")
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

    def character(self, name):
        """A character that Ines plays, as if its file had been dropped."""
        made = keep_character(
            self.production,
            None,
            f"{name}.glb",
            (FOLDER / f"{name}.glb").read_bytes(),
            *read_guarded(FOLDER / f"{name}.glb", f"{name}.glb"),
        )
        set_players(made, [self.slate.performer_id], None)
        work()
        return made

    def test_a_rest_pose_is_turned_by_dragging_a_limb_in_the_picture(self):
        self.roll()
        wick = self.character("wick")
        page = self.sign_in("technician", f"cast?character={wick.pk}")
        expect(page.get_by_label("How the warm-up follows")).to_contain_text("no flips")
        page.get_by_role("group", name="Map sheet").get_by_role("button", name="head", exact=True).click()
        box = page.locator("canvas").first.bounding_box()
        said = page.get_by_text("drag to turn it at rest", exact=True)
        middle, right = int(box["width"]) // 2, int(box["width"]) - 60
        places = [(x, y) for at in (0, 7) for y in range(30 + at, 330, 14) for x in range(middle + at, right, 14)]
        for x, y in places:
            page.mouse.move(box["x"] + x, box["y"] + y)
            if said.count():
                break
        expect(said).to_be_visible()
        page.mouse.down()
        page.mouse.move(box["x"] + x + 20, box["y"] + y + 4)
        page.keyboard.press("Escape")  # never mind
        page.mouse.up()
        self.assertEqual(self.newest(wick).version, 1)
        page.mouse.move(box["x"] + x, box["y"] + y)
        page.mouse.down()
        for step in (10, 20, 30):
            page.mouse.move(box["x"] + x + step, box["y"] + y + 4)
        page.mouse.up()
        self.eventually(lambda: self.newest(wick).version, 2)
        (turned,) = [r for r in self.newest(wick).document["rest_pose"] if r.get("by_hand")]
        self.assertEqual(turned["bone"], "hero_rig_Head")
        expect(page.get_by_text("Rest pose, corrected by hand")).to_be_visible()
        page.get_by_role("button", name="undo, back to v1").click()
        self.eventually(lambda: self.newest(wick).version, 3)
        expect(page.get_by_text("Rest pose, corrected by hand")).to_be_hidden()

    def slowly(self, take):
        time.sleep(1.5)
        return passes_of_take(take)

    def newest(self, character):
        return character.maps.order_by("-version").first()

    def test_a_map_is_corrected_mirrored_taken_back_and_the_face_given_gains(self):
        self.roll()
        wick = self.character("wick")
        page = self.sign_in("technician", f"cast?character={wick.pk}")
        expect(page.get_by_label("How the warm-up follows")).to_contain_text("no flips")
        sheet = page.get_by_role("group", name="Map sheet")
        sheet.get_by_role("button", name="right upper arm").click()
        expect(page.get_by_text("click a joint of Wick")).to_be_visible()
        page.get_by_text("Rest pose").click()
        slider = page.get_by_role("slider", name="Turn right upper arm about the front-to-back axis")
        slider.focus()
        page.keyboard.press("ArrowRight")
        self.eventually(lambda: self.newest(wick).version, 2)
        turned = [r for r in self.newest(wick).document["rest_pose"] if r.get("by_hand")]
        self.assertEqual([r["bone"] for r in turned], ["hero_rig_UpperArm_R"])
        page.get_by_role("button", name="as it was matched").click()
        self.eventually(lambda: self.newest(wick).version, 3)
        self.choose(page, "right upper arm moves", "nothing")
        self.eventually(lambda: self.newest(wick).version, 4)
        page.get_by_role("button", name="left onto right").click()
        self.eventually(lambda: self.newest(wick).version, 5)
        pairs = {r["bone"]: r["target"] for r in self.newest(wick).document["pairs"]}
        self.assertEqual(pairs["rightUpperArm"], ["hero_rig_UpperArm_R"])
        with page.expect_download() as saved:
            page.get_by_role("link", name="save the map").click()
        self.assertIn(b'"map/1"', Path(saved.value.path()).read_bytes())

        sheet.get_by_role("button", name="chest", exact=True).click()
        share = page.get_by_role("slider", name="Share of hero_rig_Spine_2")
        share.focus()
        page.keyboard.press("ArrowRight")
        self.eventually(lambda: self.newest(wick).version, 6)
        chest = next(r for r in self.newest(wick).document["pairs"] if r["bone"] == "chest")
        self.assertEqual(chest["shares"], [0.55, 1.0])
        page.get_by_text("Effectors", exact=True).click()
        page.get_by_label("left hand", exact=True).fill("hand control")
        page.keyboard.press("Enter")
        self.eventually(lambda: self.newest(wick).version, 7)
        self.assertEqual(self.newest(wick).document["effectors"], [{"effector": "leftHand", "target": "hand control"}])
        expect(page.get_by_text("Effectors, 1 named")).to_be_visible()

        self.choose(page, "Compare with an earlier map", re.compile("^v6"))
        changed = page.get_by_role("group", name="What has changed since v6")
        expect(changed).to_contain_text("hand control")
        expect(changed.get_by_role("row")).to_have_count(2)  # its heads, and the one thing
        changed.get_by_role("button", name="close").click()

        page.get_by_role("button", name="Face shapes").click()
        jaw = page.get_by_role("group", name="wick_face_JawOpen")
        gain = jaw.get_by_role("slider")
        gain.focus()
        page.keyboard.press("ArrowLeft")
        self.eventually(lambda: self.newest(wick).version, 8)
        drivers = {d["target"]: d["gain"] for d in self.newest(wick).document["shapes"]}
        self.assertAlmostEqual(drivers["wick_face_JawOpen"], 0.95)
        self.assertEqual(drivers["wick_face_EyeBlink_L"], 1.0)
        jaw.get_by_role("button", name="Limits of jaw open on wick_face_JawOpen").click()
        jaw.get_by_label("at most").fill("0.6")
        page.keyboard.press("Enter")
        self.eventually(lambda: self.newest(wick).version, 9)
        expect(jaw.get_by_role("button", name="Limits of jaw open")).to_have_text("limited")
        jaw.get_by_label("at least").fill("0.9")  # over the most
        page.keyboard.press("Enter")
        expect(jaw.get_by_label("at least")).to_have_value("0")
        limits = next(d for d in self.newest(wick).document["shapes"] if d["target"] == "wick_face_JawOpen")
        self.assertEqual((limits["low"], limits["high"]), (0.0, 0.6))

        page.get_by_role("button", name="rename").click()
        page.get_by_label("Name").fill("Wick the younger")
        page.get_by_role("button", name="Rename", exact=True).click()
        expect(page.get_by_role("heading", name="Wick the younger")).to_be_visible()
        page.get_by_role("button", name="remove").click()
        page.get_by_role("button", name="keep it").click()
        self.assertEqual(Character.objects.count(), 1)
        page.get_by_role("button", name="remove").click()
        page.get_by_role("button", name="Remove", exact=True).click()
        self.eventually(lambda: Character.objects.count(), 0)

    def test_reach_is_drawn_in_its_lane_and_a_take_casts_for_itself(self):
        self.roll()
        gull, keeper = self.character("gull"), self.character("keeper")
        page = self.sign_in("technician", f"bench/{self.take.pk}?see=beside+Gull")
        lane = page.get_by_role("group", name="Gull: right hand reaches")
        expect(lane).to_be_visible()
        lane.dblclick(position={"x": 500, "y": 4})

        def reach():
            newest = Run.objects.filter(name="retarget", character=gull).order_by("-id").first()
            return newest.parameters.get("right_hand", 0)

        self.eventually(lambda: isinstance(reach(), list), True)
        before = [v for _, v in reach()]
        self.assertEqual(before[0], 0.0)
        self.assertGreater(before[1], 0.9)
        expect(page.get_by_role("button", name="who plays whom")).to_be_disabled()  # the page knows of the run
        work()
        expect(page.get_by_role("button", name="who plays whom")).to_be_enabled()
        point = lane.get_by_role("button").last
        point.focus()
        page.keyboard.press("ArrowDown")
        self.eventually(lambda: round(before[1] - reach()[1][1], 2), 0.1)
        expect(page.get_by_role("button", name="who plays whom")).to_be_disabled()
        with mock.patch("otrevo.server.bench.api.passes_of_take", self.slowly):  # slower than the page asks for runs
            work()
            expect(page.get_by_role("button", name="who plays whom")).to_be_enabled(timeout=30000)
        page.get_by_role("button", name="who plays whom").click()
        box = page.get_by_role("dialog", name="Who plays whom in this take")
        box.get_by_text("Keeper").click()
        self.eventually(lambda: self.take.appearances.get().characters, [gull.pk])
        expect(page.get_by_role("region", name="Retarget Keeper")).to_have_count(0)
        box.get_by_role("button", name="as Cast says").click()
        self.eventually(lambda: self.take.appearances.get().characters, None)
        expect(page.get_by_role("region", name="Retarget Keeper")).to_be_visible()
        self.assertEqual(keeper.players.count(), 1)
