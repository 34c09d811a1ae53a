"""Two people at one take: nobody's words are lost. And what is removed in the browser goes, waits, and comes back."""

from django.contrib.auth.models import User
from django.test import LiveServerTestCase, override_settings
from playwright.sync_api import expect

from otrevo.server.keeping.models import Removal
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.models import Take
from tests.interface.browser import InBrowser
from tests.server.production import make_production
from tests.server.test_keeping import samples


@override_settings(ALLOWED_HOSTS=["*"], STATIC_URL="/no-static/", MEDIA_URL="/no-media/")
class Storage(InBrowser, LiveServerTestCase):
    def setUp(self):
        super().setUp()
        self.production, self.slate = make_production()
        self.take = make_take(self.slate, None, duration_s=4.0, out_s=4.0)
        samples(self.take, 1)

    def note(self):
        return Take.objects.values_list("note", flat=True).get(pk=self.take.pk)

    def test_two_notes_on_one_take(self):
        pages = [self.sign_in(role) for role in ("technician", "supervisor")]
        mine, theirs = (page.get_by_label("Note on take 1") for page in pages)
        mine.fill("the rope slips")
        theirs.fill("weak start")
        theirs.press("Enter")
        self.eventually(self.note, "weak start")
        mine.press("Enter")
        told = pages[0].get_by_role("alert")
        expect(told).to_contain_text("supervisor-SMS has written: weak start")
        expect(told).to_contain_text("You have written: the rope slips")
        self.assertEqual(self.note(), "weak start")
        pages[0].get_by_role("button", name="Keep both").click()
        self.eventually(self.note, "weak start / the rope slips")
        expect(told).to_have_count(0)
        expect(mine).to_have_value("weak start / the rope slips")
        expect(theirs).to_have_value("weak start / the rope slips")

    def test_a_take_is_removed_and_comes_back(self):
        page = self.sign_in("supervisor")
        page.get_by_role("link", name="Storage").click()
        page.get_by_role("button", name="Takes of slate 15").click()
        page.get_by_role("button", name="Remove take 1 of slate 15").click()
        page.get_by_role("button", name="No, leave it").click()
        page.get_by_role("button", name="Remove take 1 of slate 15").click()
        page.keyboard.press("Enter")
        row = page.get_by_role("table", name="Removed").get_by_role("row", name="slate 15 take 1")
        expect(row).to_contain_text("in 14 days")
        expect(page.get_by_role("row", name="15 Hauling")).to_contain_text("no take")
        self.at(page, "shoot")
        expect(page.get_by_label("Slate 15", exact=True)).to_contain_text("No take yet")
        self.at(page, "storage")
        page.get_by_role("button", name="Bring back slate 15 take 1").click()
        expect(row).to_have_count(0)
        self.at(page, "shoot")
        expect(page.get_by_label("Note on take 1")).to_be_visible()

    def test_a_production_is_removed_and_an_administrator_brings_it_back(self):
        User.objects.filter(username="technician-SMS").update(is_superuser=True)
        page, other = self.sign_in("supervisor"), self.sign_in("technician")
        self.at(page, "storage")
        page.get_by_role("button", name="Remove the whole production").click()
        page.get_by_role("button", name="Remove all of it").click()
        expect(page.get_by_role("heading", name="You are not part of a production yet")).to_be_visible()
        other.goto(f"{self.live_server_url}/administration")
        other.get_by_role("button", name="Bring back Saltmarsh Signal").click()
        self.eventually(Removal.objects.count, 0)
        page.reload()
        expect(page.get_by_text("Hauling the rope", exact=True)).to_be_visible()
