"""Parts of the real product killed at random while takes roll: what is lost, how long it is away, and whether the takes are whole."""

import os
import random
import time

from tests.server.product import Product

PASSWORD = "harbour-lights"  # of the tests' production
PARTS = ("recorder", "recorder", "web", "database", "worker-1", "worker-2", "cameras", "kit")
KILLS = int(os.environ.get("OTREVO_KILLS", 50))
PER_TAKE = 5
STAND_INS = ("cameras", "kit")  # devices of the simulated stage: while they are away, nothing is sent


def chaos(seeds):
    """KILLS parts killed, PER_TAKE in a take. Prints a line for each; returns the worst of everything."""
    draw = random.Random(next(iter(seeds)))
    lost, away, wrong, takes, told_apart = [], [], [], 0, 0
    with Product() as product:
        product.sign_in("technician-SMS", PASSWORD)
        left = KILLS
        while left > 0:
            _until(product.recorder, 60)
            product.patiently("POST", f"/slates/{product.slate}/roll", seconds=60)
            time.sleep(3)
            killed = []
            for _ in range(min(PER_TAKE, left)):
                part = draw.choice(PARTS)
                name = _until(product.recorder, 60) if part == "recorder" else part
                product.kill(name)
                began = time.monotonic()
                _until(lambda name=name, part=part: _back(product, name, part), 60)
                away.append((part, time.monotonic() - began))
                print(f"{part:9} back after {away[-1][1]:.2f} s")
                killed.append(part)
                left -= 1
                time.sleep(draw.uniform(2.0, 5.0))
            take = product.patiently("POST", f"/slates/{product.slate}/cut", seconds=60)
            takes += 1
            runs = _until(lambda take=take: _ended(product, take["id"]), 300)
            wrong += [
                f"take {take['number']}: {r['name']} {r['state']} {r['message']}" for r in runs if r["state"] != "done"
            ]
            snags = product.patiently("GET", f"/takes/{take['id']}/bench")["snags"]
            gaps = [s["end_s"] - s["start_s"] for s in snags if s["kind"] == "not recorded"]
            if not set(killed) & set(STAND_INS):
                lost += gaps
                told_apart += len(gaps)
            print(
                f"take {take['number']}: {take['duration_s']:.1f} s, killed {', '.join(killed)}; told missing {[round(g, 3) for g in gaps]} s"
            )
    slowest = {part: round(max(s for p, s in away if p == part), 2) for part in {p for p, _ in away}}
    print(
        f"{KILLS} kills in {takes} takes; lost at most {max(lost, default=0):.3f} s at a time; back after {slowest}; {len(wrong)} passes wrong {wrong}"
    )
    return {
        "kills": KILLS,
        "takes": takes,
        "lost_worst_s": max(lost, default=0.0),
        "back_worst_s": slowest,
        "wrong": wrong,
    }


def _until(look, seconds):
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        found = look()
        if found:
            return found
        time.sleep(0.05)
    raise AssertionError(f"nothing came within {seconds} s")


def _back(product, name, part):
    """Whether what that part does is done again."""
    if part == "recorder":
        now = product.recorder()
        return now is not None and now != name
    if part in ("web", "database"):
        try:
            return product.ask("GET", "/me")[0] == 200
        except (OSError, ValueError):
            return False
    return name in product.parts()


def _ended(product, take):
    runs = product.patiently("GET", f"/takes/{take}/runs", seconds=60)
    return runs if runs and all(r["state"] not in ("queued", "running") for r in runs) else None
