"""Streams: arrays in, Arrow IPC chunks in the database, arrays or bytes out. Chunks never change."""

import math

import numpy as np
import pyarrow as pa
from django.db import connection, transaction
from psycopg.pq import Format

from otrevo.core.formats.centroids import from_rows
from otrevo.core.passes.contract import SampleClock
from otrevo.server.takes.models import Chunk, Stream

CHUNK_BYTES = 1024 * 1024


def _schema(width):
    return pa.schema([("values", pa.list_(pa.float32(), width))])


def _batch(flat):
    width = flat.shape[1]
    values = pa.FixedSizeListArray.from_arrays(pa.array(np.ascontiguousarray(flat, dtype=np.float32).ravel()), width)
    return pa.record_batch([values], schema=_schema(width))


def _ipc(batches, width):
    sink = pa.BufferOutputStream()
    with pa.ipc.new_stream(sink, _schema(width)) as writer:
        for batch in batches:
            writer.write_batch(batch)
    return sink.getvalue().to_pybytes()


@transaction.atomic
def write_stream(
    take, name, kind, rate, data, run=None, stamps=(), details=None, recording=None, performer=None, prop="", clock=None
):
    """Store data (T, ...) as a stream of float32; absent samples are NaN. Returns the Stream.

    It belongs to a take, or with take None to a StageRecording; performer or prop (its name): whom it is about, if not
    the room; clock: the SampleClock of a computed track.
    """
    data = np.asarray(data)
    width = math.prod(data.shape[1:])
    stream = Stream.objects.create(
        take=take, recording=recording, run=run, name=name, kind=kind, rate=f"{rate.numerator}/{rate.denominator}",
        shape=list(data.shape[1:]), samples=len(data), stamps=[[float(a), float(b)] for a, b in stamps],
        details=details or {}, performer=performer, prop=prop, clock=clock_document(clock, rate),
    )  # fmt: skip
    flat = data.reshape(len(data), width) if len(data) else np.zeros((0, width))
    per_chunk = max(1, CHUNK_BYTES // (4 * width))
    chunks = [
        Chunk(stream=stream, number=i, first_sample=s, samples=min(per_chunk, len(flat) - s),
              payload=_ipc([_batch(flat[s : s + per_chunk])], width))
        for i, s in enumerate(range(0, len(flat), per_chunk))
    ]  # fmt: skip
    Chunk.objects.bulk_create(chunks, batch_size=16)
    return stream


def clock_document(clock, rate):
    """A SampleClock of samples at a nominal rate as it is stored, or None."""
    if clock is None:
        return None
    return {"offset_s": float(clock.start_s), "drift_ppm": 1e6 * (float(rate) / clock.hz - 1)}


def clock_of(document, rate):
    """The SampleClock of samples at a nominal rate by a stored clock; from the take's zero where there is none."""
    document = document or {"offset_s": 0.0, "drift_ppm": 0.0}
    return SampleClock(document["offset_s"], float(rate) / (1 + 1e-6 * document["drift_ppm"]))


def _rows(stream, start, end):
    """(first sample, samples, payload) of the chunks that touch a range."""
    chunks = stream.chunks.filter(first_sample__lt=end, first_sample__gte=start - _largest(stream)).order_by("number")
    sql, parameters = chunks.values_list("first_sample", "samples", "payload").query.sql_with_params()
    with connection.cursor() as cursor:
        cursor.cursor.format = Format.BINARY  # as text every byte would come as two letters, at a fifth of the speed
        cursor.execute(sql, parameters)
        return cursor.fetchall()


def _batches(stream, start, end):
    for first, samples, payload in _rows(stream, start, end):
        low, high = max(start, first), min(end, first + samples)
        if low >= high:
            continue
        with pa.ipc.open_stream(pa.py_buffer(payload)) as reader:
            for batch in reader:
                yield batch.slice(low - first, high - low)


def _largest(stream):
    width = max(1, math.prod(stream.shape))
    return max(1, CHUNK_BYTES // (4 * width))


def read_stream(stream, start=0, end=None):
    """Samples [start, end) as float32 (T, ...)."""
    end = stream.samples if end is None else min(end, stream.samples)
    parts = [b.column(0).flatten().to_numpy(zero_copy_only=False) for b in _batches(stream, start, end)]
    flat = np.concatenate(parts) if parts else np.zeros(0, dtype=np.float32)
    return flat.reshape((-1, *stream.shape))


def stream_bytes(stream, start=0, end=None, step=1):
    """Samples [start, end) thinned by `step` as one Arrow IPC stream, for the browser."""
    end = stream.samples if end is None else min(end, stream.samples)
    width = math.prod(stream.shape)
    if step == 1:
        return _ipc(_batches(stream, start, end), width)
    flat = read_stream(stream, start, end).reshape(-1, width)
    if stream.kind == "audio":  # a wave is drawn by its peaks; plain thinning would lose the clap
        thinned = np.maximum.reduceat(np.abs(flat), np.arange(0, len(flat), step)) if len(flat) else flat
    else:
        thinned = flat[::step]
    return _ipc([_batch(thinned)], width)


FRAMES_BETWEEN = 60  # marks of where a frame's rows begin


def write_centroids(take, name, rate, centroids, names, stamps=(), recording=None):
    """Store formats.centroids.Centroids as a stream whose samples are rows; `details` says where frames begin."""
    frames = centroids.frames
    marks = np.searchsorted(centroids.frame, np.arange(0, frames + FRAMES_BETWEEN, FRAMES_BETWEEN))
    details = {"cameras": list(names), "frames": frames, "every": FRAMES_BETWEEN, "marks": marks.tolist()}
    return write_stream(
        take, name, "centroids", rate, centroids.rows(), stamps=stamps, details=details, recording=recording
    )


def frame_rows(stream, first, last):
    """(start, end) of the samples of a centroid stream that hold frames [first, last), and at most some more."""
    every, marks = stream.details["every"], stream.details["marks"]
    return marks[min(max(first, 0) // every, len(marks) - 1)], marks[min(-(-max(last, 0) // every), len(marks) - 1)]


def read_centroids(stream):
    """The Centroids of a stream, over the cameras in its details."""
    return from_rows(read_stream(stream))


def recorded(take, name, performer=None):
    """The recorded stream of that name, or None; of a performer, or of anybody where none is given."""
    found = take.streams.filter(run=None, name=name)
    return (found.filter(performer=performer) if performer else found).order_by("id").first()
