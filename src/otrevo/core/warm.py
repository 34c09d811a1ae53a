"""Compile the frame loops into Numba's cache at set-up, on a small made-up take, so that the first real take is quick."""

from fractions import Fraction

import numpy as np

from otrevo.core.body.geometry_fit import fit_geometry
from otrevo.core.body.performer import PerformerCalibration
from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.body.solve import solve_take
from otrevo.core.errors import InputError
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.markers.label import label_take
from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.core.timecode.ltc import read_ltc


def main():
    chart = shipped_chart()
    performer = PerformerCalibration(1.75, generic_skeleton(), chart.name, chart.names, chart.bones, chart.offset_m)
    model = performer.model()
    joints = np.cumsum(np.zeros((len(model.skeleton.names), 3)), axis=0)
    for b, parent in enumerate(model.skeleton.parents):
        joints[b] = model.skeleton.rest_offset_m[b] + (joints[parent] if parent >= 0 else 0)
    cloud = joints[model.marker_bone] + model.marker_offset_m
    points = np.repeat(cloud[None], 60, axis=0)
    labels = label_take(points, Fraction(120), model)
    solve_take(labels.labelled_m, Fraction(120), performer)
    fit_geometry(model, labels.labelled_m[:30], labels.root_m[:30], labels.local[:30], 1)
    try:
        read_ltc(np.sin(np.arange(48000) * 0.31), 48000, TimecodeFormat(Fraction(25)))
    except InputError:
        pass  # a tone is no timecode; the loops are compiled all the same


if __name__ == "__main__":
    main()
