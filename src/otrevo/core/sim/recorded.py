"""What a simulated device hands over."""

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np


@dataclass(frozen=True)
class RecordedStream:
    """What one device delivered: kind, nominal rate, data (T, ...), stamps (K, 2) of sample number and seconds of day."""

    name: str
    kind: str
    rate: Fraction
    data: np.ndarray
    stamps: np.ndarray
    extra: dict = field(default_factory=dict)
