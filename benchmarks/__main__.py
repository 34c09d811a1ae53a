"""Run the benchmarks by name, or all of them."""

import argparse
import json

from benchmarks import application, beside, bodies, chaos, characters, live, many, optics, suits, timecode, work

ALL = {
    "warm-up": bodies.warm_up,
    "label": bodies.label,
    "solve": bodies.solve,
    "timecode": timecode.ltc,
    "line-up": timecode.line_up,
    "calibrate": optics.calibrate,
    "rebuild": optics.rebuilding,
    "live": live.ten_minutes,
    "store": application.store,
    "pipeline": application.pipeline,
    "cold-start": application.cold_start,
    "maps": characters.maps,
    "retarget": characters.retargeting,
    "suit": suits.suits,
    "turned-sensors": suits.turned,
    "markers-and-suit": beside.markers_and_suit,
    "rigid-bodies": beside.rigid_bodies,
    "cancel": work.cancelling,
    "kills": work.kills,
    "chaos": chaos.chaos,
    "500-takes": many.five_hundred,
    "ten-people": many.ten_people,
}


def main():
    parser = argparse.ArgumentParser(prog="otrevo bench")
    parser.add_argument("name", nargs="?", choices=sorted(ALL))
    parser.add_argument("--seeds", type=int, default=6)
    parser.add_argument("--first-seed", type=int, default=1000)
    arguments = parser.parse_args()
    seeds = range(arguments.first_seed, arguments.first_seed + arguments.seeds)
    for name in [arguments.name] if arguments.name else ALL:
        print(f"== {name}")
        print(json.dumps({"benchmark": name} | ALL[name](seeds)), flush=True)


if __name__ == "__main__":
    main()
