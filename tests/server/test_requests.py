"""Requests over real sockets to the web server as it is served: too long, too slow, of nobody; and what is written down of them."""

import asyncio
import json
import logging
import socket
import threading
from unittest import mock

import uvicorn
from django.db import connection
from django.test import Client, SimpleTestCase, TransactionTestCase, override_settings

from otrevo.server.asgi import application
from otrevo.server.logs import JsonLines, about
from otrevo.server.shoot.models import Slate
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.models import Take
from otrevo.server.web import bodies, protocol
from tests.server.production import PASSWORD, make_production


class Serving:
    """The application on a port of loopback, in a thread, with the protocol that the product uses."""

    def __enter__(self):
        self.socket = socket.create_server(("127.0.0.1", 0))
        self.port = self.socket.getsockname()[1]
        config = uvicorn.Config(application, http=protocol.Protocol, log_config=None, access_log=False)
        self.server = uvicorn.Server(config)
        run = self.server.serve(sockets=[self.socket])
        self.thread = threading.Thread(target=lambda: asyncio.run(run), daemon=True)
        self.thread.start()
        return self

    def __exit__(self, *_):
        self.server.should_exit = True
        self.thread.join(20)
        self.socket.close()

    def say(self, *pieces, seconds=20):
        """What comes back to bytes sent piece by piece until the other side closes; b"" where nothing does."""
        got = b""
        with socket.create_connection(("127.0.0.1", self.port), timeout=seconds) as link:
            try:
                for piece in pieces:
                    link.sendall(piece)
                while data := link.recv(65536):
                    got += data
            except ConnectionError:  # closed while we were still sending
                pass
        return got


def head(method, path, *lines):
    text = "\r\n".join([f"{method} {path} HTTP/1.1", "Host: 127.0.0.1", *lines])
    return text.encode() + b"\r\n\r\n"


def status(answer):
    return int(answer.split()[1]) if answer else None


class Requests(TransactionTestCase):
    def setUp(self):
        _, self.slate = make_production()
        self.path = f"/api/slates/{self.slate.pk}/files"

    def signed_in(self, role="technician"):
        """Lines of a request that tell who asks."""
        client = Client()
        self.assertTrue(client.login(username=f"{role}-SMS", password=PASSWORD))
        token = client.get("/api/csrf").json()["token"]
        cookies = "; ".join(f"{name}={value.value}" for name, value in client.cookies.items())
        return [f"Cookie: {cookies}", f"X-CSRFToken: {token}"]

    def test_files_of_nobody_are_refused_before_they_are_read(self):
        with Serving() as web:
            answer = web.say(
                head("POST", self.path, "Content-Type: multipart/form-data; boundary=x", "Content-Length: 900000000")
            )
        self.assertEqual(status(answer), 401)  # at once: none of the 900 MB was sent
        self.assertIn(b"Sign in first", answer)

    def test_a_body_that_says_how_long_it_is_is_refused_by_its_length(self):
        lines = self.signed_in()
        with Serving() as web:
            for method, path, length, wanted in (
                ("POST", self.path, 3 * 2**30, 413), ("POST", "/api/sign-in", 2**23, 413), ("GET", "/api/me", 2**20, 413),
                ("POST", "/api/nothing-of-the-kind", 2**20, 413), ("DELETE", self.path, 2**20, 413),
            ):  # fmt: skip
                with self.subTest(path=path, method=method):
                    answer = web.say(head(method, path, f"Content-Length: {length}", *lines))
                    self.assertEqual(status(answer), wanted)
                    self.assertIn(b"MiB are taken here", answer)

    def test_a_body_that_does_not_say_how_long_it_is_is_measured_as_it_comes(self):
        lines = self.signed_in()
        piece = b"10000\r\n" + b"x" * 65536 + b"\r\n"
        with Serving() as web:
            answer = web.say(
                head("POST", f"/api/days/{self.slate.day_id}/slates", "Transfer-Encoding: chunked", "Content-Type: application/json", *lines),
                *[piece] * 70,
            )  # fmt: skip
        self.assertIn(status(answer), (413, None))  # or the line was cut while it was still being sent
        self.assertEqual(Slate.objects.count(), 2)

    @mock.patch.object(bodies, "SILENT_S", 0.3)
    def test_half_a_body_does_not_keep_anything_waiting(self):
        with Serving() as web:
            lines = ["Content-Type: multipart/form-data; boundary=x", "Content-Length: 1000", *self.signed_in()]
            answer = web.say(head("POST", self.path, *lines), b"--x\r\n")
        self.assertEqual(status(answer), 408)
        self.assertEqual(Take.objects.count(), 0)

    @mock.patch.object(protocol, "HEAD_S", 0.3)
    def test_half_a_head_is_not_waited_for(self):
        with Serving() as web:
            self.assertEqual(status(web.say(b"POST /api/sign-in HTTP/1.1\r\nHost: 127.0.0.1\r\n")), 408)
            self.assertEqual(status(web.say()), 408)
            asked = web.say(head("GET", "/api/csrf"), b"GET /api/cs")  # the second one on the same line
        self.assertTrue(asked.startswith(b"HTTP/1.1 200"))
        self.assertIn(b"HTTP/1.1 408", asked)

    def test_a_head_without_an_end_is_refused(self):
        with Serving() as web:
            answer = web.say(b"GET / HTTP/1.1\r\n", *[b"X-More: " + b"y" * 8000 + b"\r\n"] * 40)
        self.assertIn(status(answer), (431, 400, None))

    @override_settings(MAX_REQUEST_BYTES=2**40)
    def test_more_than_the_disk_holds_is_refused_in_a_sentence(self):
        with Serving() as web:
            lines = ["Content-Type: multipart/form-data; boundary=x", f"Content-Length: {2**40}", *self.signed_in()]
            answer = web.say(head("POST", self.path, *lines))
        self.assertEqual(status(answer), 507)
        self.assertIn(b"There is no room", answer)

    def test_a_live_line_is_opened_by_our_own_pages_alone(self):
        cookie = self.signed_in()[0]
        with Serving() as web:
            own = f"http://127.0.0.1:{web.port}"

            def opened(origin, asked=f"127.0.0.1:{web.port}"):
                lines = [f"Host: {asked}", cookie, "Connection: Upgrade", "Upgrade: websocket", "Sec-WebSocket-Version: 13",
                         "Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==", *([f"Origin: {origin}"] if origin else [])]  # fmt: skip
                request = f"GET /live/{self.slate.day.production_id} HTTP/1.1\r\n" + "\r\n".join(lines) + "\r\n\r\n"
                with socket.create_connection(("127.0.0.1", web.port), timeout=20) as link:
                    link.sendall(request.encode())
                    return status(link.recv(4096))

            self.assertEqual(opened(own), 101)
            for foreign in (
                "http://127.0.0.1:9",
                f"https://127.0.0.1:{web.port}",
                "http://elsewhere.example",
                "null",
                "",
                "http://[:",
            ):
                with self.subTest(foreign):
                    self.assertEqual(opened(foreign), 403)
            self.assertEqual(opened("http://elsewhere.example", "elsewhere.example"), 403)

    def test_a_database_that_was_away_is_reached_again(self):
        note = b'{"note": "x"}'
        take = make_take(self.slate, None, duration_s=2.0, out_s=2.0)
        lines = [
            f"Content-Length: {len(note)}",
            "Content-Type: application/json",
            "Connection: close",
            *self.signed_in(),
        ]
        end_others = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND datname = current_database()"
        with Serving() as web:
            answers = []
            for _ in range(3):
                answers.append(status(web.say(head("PATCH", f"/api/takes/{take.pk}", *lines), note)))
                with connection.cursor() as cursor:
                    cursor.execute(end_others)
        self.assertEqual(answers, [200, 200, 200])

    def test_what_is_right_goes_through_and_is_written_down(self):
        note = json.dumps({"name": "19", "title": "Coiling", "performer_id": self.slate.performer_id}).encode()
        lines = [
            f"Content-Length: {len(note)}",
            "Content-Type: application/json",
            "Connection: close",
            *self.signed_in(),
        ]
        with self.assertLogs("otrevo.access", "INFO") as said, Serving() as web:
            answer = web.say(head("POST", f"/api/days/{self.slate.day_id}/slates", *lines), note)
            refused = web.say(head("POST", self.path, "Content-Length: 5", "Connection: close"), b"hello")
        self.assertEqual((status(answer), status(refused)), (200, 401))
        # a line is written after its answer has gone, so a busy machine may write the second one first
        lines = sorted(
            (json.loads(JsonLines().format(record)) for record in said.records), key=lambda line: line["status"]
        )
        self.assertEqual([(line["status"], line["user"], line["from"]) for line in lines],
                         [(200, "technician-SMS", "127.0.0.1"), (401, "", "127.0.0.1")])  # fmt: skip


class Lines(SimpleTestCase):
    def test_a_line_says_what_it_is_about_even_when_something_failed(self):
        with self.assertLogs("otrevo.work") as said:
            try:
                raise ValueError("a\nb")
            except ValueError:
                logging.getLogger("otrevo.work").exception("%s failed", "solve", extra={"run": 7})
        with about(take=3):
            line = JsonLines().format(said.records[0])
        told = json.loads(line)
        self.assertNotIn("\n", line)
        self.assertEqual((told["take"], told["run"], told["message"]), (3, 7, "solve failed"))
        self.assertIn("ValueError", told["trouble"])
