"""Made-up takes for tests, each rolled once per run. Seeds are spread so that nothing is tuned to one body."""

from fractions import Fraction
from functools import cache

import numpy as np

from otrevo.core.body.model import body_model
from otrevo.core.body.performer import PerformerCalibration
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import perform
from otrevo.core.sim.optical import see
from otrevo.core.sim.performers import make_performer

RATE = Fraction(120)


@cache
def rolled(motion, seed, hidden=0.08, missing=0.0, sloppiness=4.0, facing=0.8):
    """performer, performance and optical take of one seed."""
    chart = shipped_chart()
    performer = make_performer(seed, chart, sloppiness_deg=sloppiness)
    performance = perform(motion, performer, seed, RATE, (0.4, -0.3), facing)
    return (
        performer,
        performance,
        see(performance, performer, chart, seed + 500, hidden=hidden, missing_markers=missing),
    )


def true_model(performer):
    """The body with its true bones and marker places: what a perfect calibration would know."""
    chart = shipped_chart()
    return body_model(performer.skeleton, chart.names, chart.bones, performer.marker_offset_m)


def true_calibration(performer):
    chart = shipped_chart()
    return PerformerCalibration(
        performer.height_m, performer.skeleton, chart.name, chart.names, chart.bones, performer.marker_offset_m
    )


def label_shares(labels, truth):
    """Shares of visible samples named right, and of all names given wrong."""
    visible = truth >= 0
    right = ((labels == truth) & visible).sum() / visible.sum()
    wrong = ((labels >= 0) & (labels != truth)).sum() / visible.sum()
    return right, wrong


def truly_labelled(optical, markers):
    """Points under their true names (T, M, 3)."""
    out = np.full((len(optical.truth), markers, 3), np.nan)
    t, c = np.nonzero(optical.truth >= 0)
    out[t, optical.truth[t, c]] = optical.points_m[t, c]
    return out
