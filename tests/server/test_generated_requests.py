"""Requests that nobody thought of, made from the API's own description, as every role: refused in a sentence, never 500."""

import json
import os
import random
import re

from django.test import Client

from otrevo.server.api import api
from tests.server.production import PASSWORD
from tests.server.test_every_route import EveryRoute as Filled

REQUESTS = int(os.environ.get("OTREVO_REQUESTS", 600))
ROLES = ("technician", "clean-up", "supervisor", "animator")
ODD = (
    None, True, "", "x", "\x00", "a\x00b", "\u202e\ud800", "x" * 5000, "=1+1", "../../etc/passwd", "{take.__class__}", "{slate:>900000000}", "1/0", "1e999",
    0, -1, 10**10, 2**63, 10**30, 1.5, 1e308, [], [[]], [None], {}, {"x": {}}, [1] * 300, "2026-13-45", "30000/1001", "9" * 400 + "/1",
)  # fmt: skip


class Generated(Filled):
    """Over the same data as the test of every route, whose own tests run there."""

    test_there_are_routes_and_each_number_is_known = test_strangers_get_nothing = None
    test_members_of_another_production_see_nothing = test_what_does_not_exist_is_not_there = None
    test_changes_without_the_token_are_refused_everywhere = None

    def value(self, draw, schema, depth=0):
        """Something that a schema allows, or, now and then, something that it does not."""
        if draw.random() < 0.25 or depth > 4:
            return draw.choice(ODD)
        if "$ref" in schema:
            schema = self.description["components"]["schemas"][schema["$ref"].rsplit("/", 1)[1]]
        if "anyOf" in schema:
            return self.value(draw, draw.choice(schema["anyOf"]), depth + 1)
        kind = schema.get("type")
        if kind == "object":
            known = {
                k: self.value(draw, s, depth + 1)
                for k, s in schema.get("properties", {}).items()
                if draw.random() < 0.9
            }
            return known | ({draw.choice(("x", "")): draw.choice(ODD)} if draw.random() < 0.1 else {})
        if kind == "array":
            return [self.value(draw, schema.get("items", {}), depth + 1) for _ in range(draw.choice((0, 1, 3)))]
        return {
            "integer": draw.choice((0, 1, 2, 7, -3)), "number": draw.choice((0.0, 0.5, 12.0, -1.0)), "boolean": draw.random() < 0.5,
            "string": draw.choice(("leftHand", "curve", "2026-11-27", "25", "hips", "label", "c01", "Küste 7")),
        }.get(kind)  # fmt: skip

    def test_none_is_answered_with_500_or_tells_of_others(self):
        draw = random.Random(int(os.environ.get("OTREVO_SEED", 7)))
        self.description = api.get_openapi_schema(path_prefix="/api/")
        clients = {}
        for role in ROLES:
            clients[role] = Client(raise_request_exception=False)
            clients[role].login(username=f"{role}-SMS", password=PASSWORD)
        clients["of another production"] = Client(raise_request_exception=False)
        clients["of another production"].login(username="supervisor-NTD", password=PASSWORD)
        clients["stranger"] = Client(raise_request_exception=False)
        routes = [r for r in self.routes if r[1] not in ("/api/sign-out", "/api/password")]
        wrong = []
        for _ in range(REQUESTS):
            method, path = draw.choice(routes)
            who = draw.choice(list(clients))
            told = self.description["paths"][path][method]
            filled = re.sub(
                r"{(\w+)}",
                lambda m: str(self.numbers[m[1]] if draw.random() < 0.8 else draw.choice((0, -1, 10**20, "x", "%00"))),
                path,
            )
            query = {
                p["name"]: draw.choice((*ODD[2:12], "1", "-5", "1e9"))
                for p in told.get("parameters", ())
                if p["in"] == "query" and draw.random() < 0.5
            }
            body = next(iter(told.get("requestBody", {}).get("content", {}).items()), None)
            if method == "get":
                answer = clients[who].get(
                    filled, {k: v for k, v in query.items() if v is not None and "\ud800" not in str(v)}
                )
            elif body and body[0] == "application/json":
                sent = json.dumps(self.value(draw, body[1]["schema"]))
                sent = sent[: len(sent) // 2] if draw.random() < 0.03 else sent
                answer = getattr(clients[who], method)(filled, sent, content_type="application/json")
            else:
                answer = getattr(clients[who], method)(
                    filled, {"file": draw.choice(("", "x"))} if method == "post" else {}
                )
            said = b"" if answer.streaming else answer.content
            if answer.status_code >= 500 and path != "/api/health":
                wrong.append(f"{who}: {method} {filled} -> {answer.status_code}: {answer.wsgi_request.body[:200]}")
            if who in ("of another production", "stranger") and b"Saltmarsh" in said:
                wrong.append(f"{who} is told of Saltmarsh by {method} {filled}")
        self.assertEqual(wrong, [])


del Filled  # else its tests would run here a second time
