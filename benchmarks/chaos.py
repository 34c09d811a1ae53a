"""Parts of the real product killed at random while takes roll: what is lost, how long it is away, and whether the takes are whole."""

import os
import random
import time

from tests.server.product import Product, until

PASSWORD = "harbour-lights"  # of the tests' production
OURS = ("recorder", "recorder", "web", "database", "worker-1", "worker-2")
KILLS = int(os.environ.get("OTREVO_KILLS", 50))
PER_TAKE = 5
TAKES_FOR_DEVICES = 4  # in every fourth take the stand-ins are killed too
STAND_INS = ("cameras", "kit")  # devices of the simulated stage: while they are away, nothing is sent


def chaos(seeds):
    """KILLS parts killed, PER_TAKE in a take. Prints a line for each; returns the worst of everything."""
    draw = random.Random(next(iter(seeds)))
    lost, away, wrong, takes, told_apart = [], [], [], 0, 0
    with Product() as product:
        product.sign_in("technician-SMS", PASSWORD)
        left = KILLS
        while left > 0:
            until(product.recorder, 60)
            product.patiently("POST", f"/slates/{product.slate}/roll", seconds=60)
            time.sleep(3)
            killed = []
            for _ in range(min(PER_TAKE, left)):
                part = draw.choice(OURS + STAND_INS if takes % TAKES_FOR_DEVICES == 3 else OURS)
                name = until(product.recorder, 60) if part == "recorder" else part
                pid = product.kill(name)
                began = time.monotonic()
                until(lambda name=name, part=part, pid=pid: _back(product, name, part, pid), 60)
                away.append((part, time.monotonic() - began))
                print(f"{part:9} back after {away[-1][1]:.2f} s")
                killed.append(part)
                left -= 1
                time.sleep(draw.uniform(2.0, 5.0))
            take = product.patiently("POST", f"/slates/{product.slate}/cut", seconds=60)
            takes += 1
            runs = until(lambda take=take: _ended(product, take["id"]), 300)
            wrong += [
                f"take {take['number']}: {r['name']} {r['state']} {r['message']}" for r in runs if r["state"] != "done"
            ]
            snags = product.patiently("GET", f"/takes/{take['id']}/bench")["snags"]
            gaps = [s["end_s"] - s["start_s"] for s in snags if s["kind"] == "not recorded"]
            if not set(killed) & set(STAND_INS):
                lost += gaps
                told_apart += len(gaps)
            body = {"name": f"take {take['number']}", "take_ids": [take["id"]], "formats": ["bvh", "c3d"], "rate": "60"}
            product.patiently(
                "POST", f"/productions/{product.production}/packages", body
            )  # built while the next one rolls
            print(
                f"take {take['number']}: {take['duration_s']:.1f} s, killed {', '.join(killed)}; told missing {[round(g, 3) for g in gaps]} s",
                flush=True,
            )
        packages = until(lambda: _built(product), 300)
        wrong += [f"package {p['name']}: {p['state']} {p['message']}" for p in packages if p["state"] != "ready"]
    slowest = {part: round(max(s for p, s in away if p == part), 2) for part in {p for p, _ in away}}
    print(
        f"{KILLS} kills in {takes} takes; lost at most {max(lost, default=0):.3f} s at a time; back after {slowest}; {len(packages)} packages; {len(wrong)} passes or packages wrong {wrong}"
    )
    return {
        "kills": KILLS,
        "takes": takes,
        "packages": len(packages),
        "lost_worst_s": max(lost, default=0.0),
        "back_worst_s": slowest,
        "wrong": wrong,
    }


def _back(product, name, part, pid):
    """Whether what that part does is done again."""
    if part == "recorder":
        now = product.recorder()
        return now is not None and now != name
    if part in ("web", "database"):
        try:
            return product.ask("GET", "/me")[0] == 200
        except (OSError, ValueError):
            return False
    return product.parts().get(name) not in (None, pid)


def _built(product):
    packages = product.patiently("GET", f"/productions/{product.production}/packages", seconds=60)
    return packages if packages and all(p["state"] != "building" for p in packages) else None


def _ended(product, take):
    runs = product.patiently("GET", f"/takes/{take}/runs", seconds=60)
    return runs if runs and all(r["state"] not in ("queued", "running") for r in runs) else None
