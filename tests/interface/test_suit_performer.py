"""A performer in a suit without markers, in a browser: from their entry in Cast to the animator who gets them on a character."""

import numpy as np
from django.test import LiveServerTestCase, override_settings
from playwright.sync_api import expect

from otrevo.core.characters.guarded import read_guarded
from otrevo.core.errors import InputError
from otrevo.core.sim.characters.files import FOLDER
from otrevo.server.cast.characters import keep_character, set_players
from otrevo.server.cast.models import Performer
from otrevo.server.handover.models import Package
from otrevo.server.shoot.models import Slate
from otrevo.server.takes.jobs import queue_all
from otrevo.server.takes.mends import preview
from otrevo.server.takes.streams import read_stream
from tests.interface.browser import InBrowser
from tests.server.production import make_production, work
from tests.server.recording import streamed_take

KIT = ("suit", "gloves", "timecode", "room")


@override_settings(ALLOWED_HOSTS=["*"], STATIC_URL="/no-static/", MEDIA_URL="/no-media/")
class WithoutMarkers(InBrowser, LiveServerTestCase):
    def setUp(self):
        super().setUp()
        self.production, _ = make_production()

    def test_from_entry_to_package_on_a_character(self):
        page = self.sign_in("technician", "cast?new")
        page.get_by_label("Name").fill("Jorun")
        page.get_by_label("Height in metres").fill("1,74")
        expect(page.get_by_role("region", name="Measures")).to_have_count(0)
        page.locator("label").filter(has_text="Markers").click()
        page.locator("label").filter(has_text="Face camera").click()
        expect(page.get_by_role("checkbox", name="Suit")).to_be_disabled()  # something has to show the body
        span = page.get_by_label("Arm span")
        expect(span).to_have_attribute("placeholder", "1.79")
        span.fill("5")
        page.get_by_role("button", name="Add performer").click()
        expect(page.get_by_text("expected the arm span in metres, 0.7 to 2.9")).to_be_visible()
        span.fill("1,83")
        page.get_by_role("button", name="Add performer").click()
        expect(page.get_by_text("shows how every sensor of the suit sits")).to_be_visible()
        jorun = Performer.objects.get(name="Jorun")
        self.assertEqual((jorun.kit, jorun.measures), (["suit", "gloves"], {"arm_span_m": 1.83}))

        day = self.production.days.get()
        warm_up = Slate.objects.create(day=day, name="W3", title="Warm-up", performer=jorun, warm_up=True)
        take = streamed_take(warm_up, "suit warm-up", 70.0, KIT)
        queue_all(take)
        work()
        self.assertEqual([(r.name, r.state, r.message) for r in take.runs.order_by("id")],
                         [(n, "done", "") for n in ("line up", "warm-up", "solve")])  # fmt: skip
        page.reload()
        expect(page.get_by_text("Sensors known within, median")).to_be_visible()
        expect(page.get_by_role("row", name="Upper leg")).to_contain_text("±")
        expect(page.get_by_text("both hands")).to_be_visible()
        skeleton = jorun.calibrations.get().document
        hand = sum(
            b["offset_m"][0]
            for b in skeleton["bones"]
            if b["name"] in ("leftShoulder", "leftUpperArm", "leftLowerArm", "leftHand")
        )
        self.assertAlmostEqual(hand, 1.83 / 2 - 0.1 * 1.74, 2)  # the measure was used

        wick = keep_character(
            self.production,
            None,
            "wick.glb",
            (FOLDER / "wick.glb").read_bytes(),
            *read_guarded(FOLDER / "wick.glb", "wick.glb"),
        )
        set_players(wick, [jorun.pk], None)
        slate = Slate.objects.create(day=day, name="22", title="Night climb", performer=jorun)
        take = streamed_take(slate, "night climb", 20.0, KIT)
        queue_all(take)
        work()
        self.assertEqual({(r.state, r.message) for r in take.runs.all()}, {("done", "")})
        root = read_stream(take.streams.get(name="body root"))
        self.assertGreater(np.ptp(root[:, 1]), 0.3)  # it goes up the steps

        with self.assertRaisesRegex(InputError, "wore no markers"):
            preview(take, {"kind": "cut", "marker": "crown", "start": 1, "end": 5})

        self.at(page, f"bench/{take.pk}")
        solved = page.get_by_role("region", name="Solve")
        expect(solved).to_contain_text("from the suit, joints ±")
        balls = page.get_by_role("group", name="3D view").get_by_role("button", name="Uncertainty")
        expect(balls).to_have_attribute("aria-pressed", "true")
        expect(page.get_by_text("joints, at worst ±")).to_be_visible()
        balls.click()
        expect(balls).to_have_attribute("aria-pressed", "false")
        expect(page.get_by_role("region", name="Label")).to_have_count(0)
        page.get_by_role("button", name="Settings of Solve").click()
        self.choose(page, "Floor, without markers", "climbing")
        page.get_by_role("button", name="Run again, and all that follows").click()
        self.eventually(lambda: take.runs.filter(name="solve").last().parameters.get("floor"), 1)
        work()
        expect(solved).to_contain_text("from the suit, joints ±")

        self.at(page, "handover")
        page.get_by_role("group", name="Takes").get_by_text("take 1").last.click()
        page.get_by_role("button", name="Package 1 take").click()
        self.eventually(lambda: Package.objects.count(), 1)
        work()
        package = Package.objects.get()
        self.assertEqual((package.state, package.message), ("ready", ""))
        package.state = Package.State.SENT
        package.save(update_fields=["state"])
        animator = self.sign_in("animator", f"handover/{package.pk}")
        expect(animator.get_by_role("img", name="Wick, as delivered").locator("canvas")).to_be_visible()
        expect(animator.get_by_text("_Wick.glb")).to_be_visible()
