"""WAV audio: one channel of a PCM or float file, scaled to -1..1."""

import warnings
from fractions import Fraction
from pathlib import Path

import numpy as np
import scipy

from otrevo.core.errors import InputError
from otrevo.core.formats.contract import FileStream, Format

MAX_BYTES = 2 * 1024**3


def read_wav(path, channel=0):
    """Sample rate (Hz) and one channel (S,) float32. Raises InputError for anything that is no whole WAV."""
    path = Path(path)
    if not path.is_file():
        raise InputError(f"{path.name}: there is no such file; expected a WAV file.")
    if path.stat().st_size > MAX_BYTES:
        raise InputError(f"{path.name}: larger than 2 GiB; expected the WAV of one take.")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", scipy.io.wavfile.WavFileWarning)
            rate, data = scipy.io.wavfile.read(path)
    except scipy.io.wavfile.WavFileWarning as warning:
        if "EOF" in str(warning).upper() or "truncat" in str(warning).lower():
            raise InputError(f"{path.name}: the WAV is truncated; it ends before the length it announces.") from None
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                rate, data = scipy.io.wavfile.read(path)
        except Exception as error:
            raise InputError(f"{path.name}: not a WAV that can be read ({str(error)[:80]}).") from None
    except Exception as error:  # scipy raises ValueError, struct.error, EOFError and others for broken headers
        raise InputError(f"{path.name}: not a WAV that can be read ({str(error)[:80]}).") from None
    if data.ndim == 1:
        data = data[:, None]
    if not 1000 <= rate <= 768000:
        raise InputError(f"{path.name}: says {rate} samples a second; expected sound at 1000 to 768000.")
    if len(data) == 0:
        raise InputError(f"{path.name}: holds no sound; expected at least one sample.")
    if channel >= data.shape[1]:
        raise InputError(f"{path.name}: has {data.shape[1]} channels; channel {channel + 1} was asked for.")
    x = data[:, channel]
    if x.dtype.kind == "i":
        return rate, (x / np.float32(2 ** (8 * x.dtype.itemsize - 1))).astype(np.float32)
    if x.dtype.kind == "u":
        return rate, ((x.astype(np.float32) - 128) / 128).astype(np.float32)
    if not np.isfinite(x).all():
        raise InputError(f"{path.name}: holds NaN or infinite samples.")
    return rate, x.astype(np.float32)


def write_wav(path, rate, samples):
    """Write one channel as 16-bit PCM."""
    scipy.io.wavfile.write(path, rate, np.round(np.clip(samples, -1, 1) * 32767).astype(np.int16))


FEWEST_CODE_FRAMES = 5


def _streams(path, timecode_format):
    """A dropped sound: the timecode track when it can be read as one, else the sound of the room."""
    from otrevo.core.timecode.ltc import read_ltc  # takes half a second to load, and other formats do without

    rate, samples = read_wav(path)
    try:
        is_timecode = len(read_ltc(samples, rate, timecode_format).frame) > FEWEST_CODE_FRAMES
    except InputError:
        is_timecode = False
    return [FileStream("timecode" if is_timecode else "room", "audio", Fraction(rate), samples)]


def _check(path):
    read_wav(path)


FORMAT = Format(
    id="wav",
    words="WAV, sound and timecode",
    holds="sound",
    conventions="WAV, one channel",
    ending=".wav",
    check=_check,
    drops=(".wav",),
    streams=_streams,
)
