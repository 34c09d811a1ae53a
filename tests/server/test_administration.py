"""Users of an installation, sign-in that cannot be guessed, what is written down, and how the parts are said to do."""

import json
from datetime import timedelta
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

from django.contrib.auth.models import User
from django.db import connection
from django.test import Client, TestCase
from django.utils import timezone

from otrevo.server.accounts.models import AuditEntry, Membership
from otrevo.server.handover.models import Package
from tests.server.production import PASSWORD, make_production
from tests.server.test_server import post, signed_in

ADMINISTRATION = (
    ("get", "/users"), ("post", "/users"), ("post", "/users/{}/invite"), ("patch", "/users/{}"), ("put", "/users/{}/roles"),
    ("post", "/users/{}/sign-out"), ("get", "/audit"), ("get", "/parts"),
)  # fmt: skip


def send(client, method, path, body=None):
    return getattr(client, method)(f"/api{path}", json.dumps(body or {}), content_type="application/json")


class Administration(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        User.objects.create_superuser("eva", password=PASSWORD)

    def setUp(self):
        self.eva = Client()
        self.assertTrue(self.eva.login(username="eva", password=PASSWORD))

    def test_only_administrators_get_there(self):
        victim = User.objects.get(username="animator-SMS").pk
        bodies = {
            "/users": {"name": "x"},
            "/users/{}/roles": {"production_id": self.production.pk, "role": "supervisor"},
        }
        for method, path in ADMINISTRATION:
            with self.subTest(f"{method} {path}"):
                client = signed_in("supervisor")
                answer = (
                    client.get(f"/api{path}")
                    if method == "get"
                    else send(client, method, path.format(victim), bodies.get(path))
                )
                self.assertEqual(answer.status_code, 403, answer.content)
        self.assertEqual(Membership.objects.get(user=victim).role, "animator")

    def test_somebody_is_invited_chooses_a_password_and_has_a_role(self):
        made = send(self.eva, "post", "/users", {"name": "jonas.lindqvist"}).json()
        self.assertTrue(made["user"]["waits"])
        self.assertIn("already", send(self.eva, "post", "/users", {"name": "jonas.lindqvist"}).json()["detail"])
        self.assertIn("letters", send(self.eva, "post", "/users", {"name": "jo nas!"}).json()["detail"])
        _, _, user_id, token = made["path"].split("/")
        newcomer = Client()
        for password, words in (
            ("short", "too short"),
            ("qwertyuiop", "too common"),
            ("jonas.lindqvis1", "too similar"),
        ):
            answer = send(newcomer, "post", "/welcome", {"user_id": user_id, "token": token, "password": password})
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.json()["detail"])
        good = {"user_id": user_id, "token": token, "password": "quay-and-lantern-7"}
        self.assertEqual(send(Client(), "post", "/welcome", good | {"token": "c" * 30}).status_code, 422)
        self.assertEqual(send(newcomer, "post", "/welcome", good).json()["name"], "jonas.lindqvist")
        self.assertIn("was used", send(Client(), "post", "/welcome", good).json()["detail"])
        self.assertEqual(newcomer.get("/api/me").json()["memberships"], [])
        role = {"production_id": self.production.pk, "role": "clean-up"}
        self.assertEqual(send(self.eva, "put", f"/users/{user_id}/roles", role).status_code, 200)
        self.assertEqual(newcomer.get(f"/api/productions/{self.production.pk}/board").status_code, 200)
        self.assertIn(
            "no role", send(self.eva, "put", f"/users/{user_id}/roles", role | {"role": "king"}).json()["detail"]
        )
        send(self.eva, "put", f"/users/{user_id}/roles", role | {"role": None})
        self.assertEqual(newcomer.get(f"/api/productions/{self.production.pk}/board").status_code, 404)

    def test_who_is_disabled_or_signed_out_is_out_at_once(self):
        technician, number = signed_in("technician"), User.objects.get(username="technician-SMS").pk
        send(self.eva, "post", f"/users/{number}/sign-out")
        self.assertEqual(technician.get("/api/me").status_code, 401)
        technician = signed_in("technician")
        self.assertEqual(send(self.eva, "patch", f"/users/{number}", {"active": False}).status_code, 200)
        self.assertEqual(technician.get("/api/me").status_code, 401)
        self.assertFalse(Client().login(username="technician-SMS", password=PASSWORD))
        send(self.eva, "patch", f"/users/{number}", {"active": True})
        self.assertTrue(Client().login(username="technician-SMS", password=PASSWORD))

    def test_the_last_administrator_stays(self):
        eva = User.objects.get(username="eva").pk
        for change in ({"administrator": False}, {"active": False}):
            self.assertIn("only administrator", send(self.eva, "patch", f"/users/{eva}", change).json()["detail"])
        other = User.objects.get(username="supervisor-SMS").pk
        send(self.eva, "patch", f"/users/{other}", {"administrator": True})
        self.assertEqual(send(self.eva, "patch", f"/users/{eva}", {"administrator": False}).status_code, 200)
        self.assertEqual(self.eva.get("/api/users").status_code, 403)

    def test_ones_own_password(self):
        here, elsewhere = signed_in("technician"), signed_in("technician")
        wrong = send(here, "post", "/password", {"old": "guess", "new": "quay-and-lantern-7"})
        self.assertIn("not your password", wrong.json()["detail"])
        self.assertEqual(
            send(here, "post", "/password", {"old": PASSWORD, "new": "quay-and-lantern-7"}).status_code, 200
        )
        self.assertEqual(here.get("/api/me").status_code, 200)
        self.assertEqual(elsewhere.get("/api/me").status_code, 401)


class Guessing(TestCase):
    @classmethod
    def setUpTestData(cls):
        make_production()

    def attempt(self, password, name="technician-SMS"):
        return post(Client(), "/sign-in", {"name": name, "password": password})

    def test_wrong_passwords_cost_more_and_more_time_for_the_right_one_too(self):
        for _ in range(5):
            self.assertEqual(self.attempt("guess").status_code, 401)
        answer = self.attempt(PASSWORD)
        self.assertEqual(answer.status_code, 429)
        self.assertRegex(answer.json()["detail"], r"try again in [12] s")
        self.assertEqual(self.attempt(PASSWORD, "supervisor-SMS").status_code, 200, "others are not kept out by it")
        AuditEntry.objects.filter(name="technician-SMS").update(at=timezone.now() - timedelta(seconds=3))
        self.assertEqual(self.attempt("guess").status_code, 401)
        self.assertRegex(self.attempt(PASSWORD).json()["detail"], r"try again in [34] s")
        AuditEntry.objects.filter(name="technician-SMS").update(at=timezone.now() - timedelta(seconds=5))
        self.assertEqual(self.attempt(PASSWORD).status_code, 200)
        self.assertEqual(self.attempt("guess").status_code, 401, "what was right ends the waiting")

    def test_an_address_that_tries_many_names_waits(self):
        for number in range(20):
            self.assertEqual(self.attempt("guess", f"nobody-{number}").status_code, 401)
        self.assertEqual(self.attempt(PASSWORD).status_code, 429)
        with mock.patch.dict("os.environ"):
            elsewhere = Client(REMOTE_ADDR="192.0.2.7")
            self.assertEqual(
                post(elsewhere, "/sign-in", {"name": "technician-SMS", "password": PASSWORD}).status_code, 200
            )


class WrittenDown(TestCase):
    def test_who_did_what_from_where_is_found_by_words(self):
        production, _ = make_production()
        User.objects.create_superuser("eva", password=PASSWORD)
        package = Package.objects.create(production=production, name="day3", formats=["bvh"], rate="30", state=Package.State.READY,
                                         archive=b"zip", manifest={"files": []})  # fmt: skip
        supervisor, animator = signed_in("supervisor"), signed_in("animator")
        post(supervisor, f"/packages/{package.pk}/send")
        self.assertEqual(animator.get(f"/api/packages/{package.pk}/file").status_code, 200)
        post(animator, f"/packages/{package.pk}/accept", {"note": "good"})
        again = post(animator, f"/packages/{package.pk}/return", {"note": "no"})
        self.assertIn("one answer stays", again.json()["detail"])
        post(Client(), "/sign-in", {"name": "mallory", "password": "x"})
        eva = Client()
        post(eva, "/sign-in", {"name": "eva", "password": PASSWORD})
        told = [(e["name"], e["deed"]) for e in eva.get("/api/audit").json()]
        self.assertEqual(told[:5], [
            ("eva", "signed in"), ("mallory", "sign-in refused"), ("animator-SMS", "package accepted"),
            ("animator-SMS", "package downloaded"), ("supervisor-SMS", "package sent"),
        ])  # fmt: skip
        found = eva.get("/api/audit", {"search": "day3 animator"}).json()
        self.assertEqual([e["deed"] for e in found], ["package accepted", "package downloaded"])
        self.assertEqual(found[0]["address"], "127.0.0.1")
        self.assertIn("Saltmarsh Signal", found[0]["about"])
        self.assertEqual(eva.get("/api/audit", {"before": found[1]["id"]}).json()[0]["deed"], "package sent")


class Health(TestCase):
    def setUp(self):
        with connection.cursor() as cursor:  # those that other tests have just killed had no chance to sign off
            cursor.execute("DELETE FROM procrastinate_workers")

    def test_what_is_missing_is_said_with_503(self):
        with self.assertNoLogs("django.request", "ERROR"):  # it is asked every few seconds
            answer = Client().get("/api/health")
        told = answer.json()
        self.assertEqual(answer.status_code, 503)  # no recorder and no worker run in this test
        self.assertFalse(told["ok"])
        self.assertEqual({n: p["good"] for n, p in told["parts"].items()},
                         {"database": True, "workers": False, "recorder": False, "disk": True})  # fmt: skip

    def test_numbers_for_those_who_have_the_token(self):
        with TemporaryDirectory() as folder, self.settings(DATA=Path(folder)):
            self.assertEqual(Client().get("/metrics").status_code, 401, "no token was made, so nobody has it")
            (Path(folder) / "metrics-token").write_text("lamp")
            (Path(folder) / "parts.json").write_text(json.dumps({"parts": {"web": {"restarts": 3}}}))
            self.assertEqual(Client().get("/metrics", headers={"Authorization": "Bearer tide"}).status_code, 401)
            text = Client().get("/metrics", headers={"Authorization": "Bearer lamp"}).content.decode()
            (Path(folder) / "parts.json").write_text(json.dumps({"parts": {"web": {
                "pid": 1, "runs": True, "restarts": 3, "why": "was ended by SIGKILL", "since": 1795759897.2}}}))  # fmt: skip
            User.objects.create_superuser("eva", password=PASSWORD)
            eva = Client()
            eva.login(username="eva", password=PASSWORD)
            told = eva.get("/api/parts").json()
        self.assertEqual([(p["name"], p["restarts"], p["why"]) for p in told], [("web", 3, "was ended by SIGKILL")])
        self.assertTrue(told[0]["since"].startswith("2026-11-27T"))
        self.assertIn('otrevo_up{part="database"} 1', text)
        self.assertIn('otrevo_up{part="recorder"} 0', text)
        self.assertIn('otrevo_restarts_total{part="web"} 3', text)
        self.assertIn("otrevo_queue_length 0", text)
