"""An administrator invites somebody; they choose a password, get a part in a production, and what happened is found."""

from django.contrib.auth.models import User
from django.test import LiveServerTestCase, override_settings
from playwright.sync_api import expect

from tests.interface.browser import InBrowser
from tests.server.production import make_production


# the live server takes every path below an unset static or media address for a file
@override_settings(ALLOWED_HOSTS=["*"], STATIC_URL="/no-static/", MEDIA_URL="/no-media/")
class Administration(InBrowser, LiveServerTestCase):
    def setUp(self):
        super().setUp()
        self.production, _ = make_production()
        User.objects.filter(username="supervisor-SMS").update(is_superuser=True)

    def test_from_invitation_to_the_board_and_a_password_of_ones_own(self):
        page = self.sign_in("supervisor")
        page.get_by_role("link", name="Administration").click()
        page.get_by_label("Name to sign in with").fill("jonas")
        page.get_by_role("button", name="Add and invite").click()
        link = page.locator("code").inner_text()
        expect(page.get_by_role("row", name="jonas invited")).to_be_visible()
        self.choose(page, "jonas in Saltmarsh Signal", "clean-up")
        expect(page.get_by_role("table", name="What was done")).to_contain_text("role changed")

        guest = self.browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        guest.on("pageerror", lambda error: self.faults.append(str(error)))
        guest.goto(link)
        guest.get_by_label("Password").fill("qwertyuiop")
        guest.get_by_label("Once more").fill("qwertyuiop")
        guest.keyboard.press("Enter")
        expect(guest.get_by_role("alert")).to_contain_text("too common")
        guest.get_by_label("Password").fill("quay-and-lantern")
        expect(guest.get_by_role("alert").first).to_contain_text("not the same")
        guest.get_by_label("Once more").fill("quay-and-lantern")
        guest.keyboard.press("Enter")
        expect(guest.get_by_text("Hauling the rope", exact=True)).to_be_visible()
        expect(guest.get_by_role("link", name="Administration")).to_have_count(0)
        guest.get_by_role("button", name="password").click()
        guest.get_by_label("Password now").fill("quay-and-lantern")
        guest.get_by_label("New password").fill("another-tide-7")
        guest.keyboard.press("Enter")
        expect(guest.get_by_role("status")).to_contain_text("Your password is changed")

        page.get_by_label("Search").fill("jonas password")
        rows = page.get_by_role("table", name="What was done").locator("tbody tr")
        expect(rows).to_have_count(2)
        expect(rows.first).to_contain_text("password changed")
        page.get_by_role("button", name="Disable jonas").click()
        expect(page.get_by_role("row", name="jonas may not")).to_be_visible()
        guest.reload()
        expect(guest.get_by_role("button", name="Sign in")).to_be_visible()
