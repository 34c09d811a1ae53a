"""Streams: arrays in, pieces in the database as Arrow IPC or Parquet, arrays or bytes out.

Pieces never change. A stream that has some samples in common with an earlier one, as after a mend, shares these pieces.
"""

import hashlib
import json
import math

import numpy as np
import pyarrow as pa
import pyarrow.parquet as parquet
from django.db import connection, transaction
from django.db.models import F
from django.utils import timezone
from psycopg.pq import Format

from otrevo.core.formats.centroids import from_rows
from otrevo.core.passes.contract import SampleClock
from otrevo.server.takes.models import Chunk, Piece, Stream

PIECE_BYTES = 256 * 1024
PACKED = ("centroids",)  # kinds that are kept as Parquet; all others as Arrow IPC, which goes to the browser as it is
PARQUET = b"PAR1"
INSERT_CHUNKS = """
INSERT INTO takes_chunk (stream_id, number, first_sample, samples, piece_id)
SELECT %s::bigint, place - 1, (place - 1) * %s::bigint, least(%s::bigint, %s::bigint - (place - 1) * %s::bigint), piece
FROM unnest(%s::bigint[]) WITH ORDINALITY AS given(piece, place)
"""
WORST_COUNTS = ("audio", "residuals", "uncertainty")  # kinds that are drawn by the largest value of a stretch


def _schema(width):
    return pa.schema([("values", pa.list_(pa.float32(), width))])


def _batch(flat):
    width = flat.shape[1]
    values = pa.FixedSizeListArray.from_arrays(pa.array(np.ascontiguousarray(flat, dtype=np.float32).ravel()), width)
    return pa.record_batch([values], schema=_schema(width))


def _packed(flat):
    """Samples (n, width) as a Parquet file, a column for each number: for what is much, repeats itself and is read in large parts."""
    columns = {str(i): pa.array(np.ascontiguousarray(flat[:, i], dtype=np.float32)) for i in range(flat.shape[1])}
    sink = pa.BufferOutputStream()
    parquet.write_table(
        pa.table(columns), sink, compression="zstd", use_dictionary=False, use_byte_stream_split=True, write_statistics=False,
        store_schema=False,
    )  # fmt: skip
    return sink.getvalue().to_pybytes()


def _unpacked(payload):
    """The samples of a piece, however it is kept, as one record batch."""
    if bytes(payload[:4]) == PARQUET:
        table = parquet.read_table(pa.py_buffer(payload))
        return _batch(np.stack([column.to_numpy() for column in table.columns], axis=1))
    with pa.ipc.open_stream(pa.py_buffer(payload)) as reader:
        (batch,) = reader
        return batch


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
    flat = data.reshape(len(data), width) if len(data) else np.zeros((0, width))
    return stream_of_pieces(
        take, name, kind, rate, data.shape[1:], len(data), keep_pieces(flat, kind), run=run, stamps=stamps, details=details,
        recording=recording, performer=performer, prop=prop, clock=clock_document(clock, rate),
    )  # fmt: skip


def per_piece_of(width):
    """How many samples of so many numbers a piece holds, but for the last one of a stream."""
    return max(1, PIECE_BYTES // (4 * width))


def keep_pieces(flat, kind=""):
    """Ids of the pieces of samples (n, width), in order; kind: of the stream they will be in."""
    width = flat.shape[1]
    per_piece = per_piece_of(width)
    parts = [flat[s : s + per_piece] for s in range(0, len(flat), per_piece)]
    return _keep([_packed(p) if kind in PACKED else _ipc([_batch(p)], width) for p in parts])


@transaction.atomic
def stream_of_pieces(take, name, kind, rate, shape, samples, pieces, stamps=(), details=None, **about):
    """A Stream of so many samples whose pieces, by their ids, are kept already; about: as in write_stream."""
    stream = Stream.objects.create(
        take=take, name=name, kind=kind, rate=f"{rate.numerator}/{rate.denominator}", shape=list(shape), samples=samples,
        stamps=[[float(a), float(b)] for a, b in stamps], details=details or {}, **about,
    )  # fmt: skip
    per_piece = per_piece_of(math.prod(shape))
    with connection.cursor() as cursor:  # in one statement: half an hour of everything has 13,000 of them
        cursor.execute(INSERT_CHUNKS, [stream.pk, per_piece, per_piece, samples, per_piece, list(pieces)])
    return stream


def _keep(payloads):
    """Ids of the pieces with these payloads; those that are not there yet are stored."""
    digests = [hashlib.sha256(p).digest() for p in payloads]
    ids = dict(_ids(digests))
    Piece.objects.filter(pk__in=ids.values()).update(kept_at=timezone.now())  # or it may be deleted before it is used
    new = {d: p for d, p in zip(digests, payloads, strict=True) if d not in ids}
    rows = [Piece(sha256=d, payload=p) for d, p in new.items()]
    # another worker may store the same; few at a time, because who cancels a run waits for the statement it is at
    Piece.objects.bulk_create(rows, batch_size=4, ignore_conflicts=True)
    ids |= dict(_ids(new))
    return [ids[d] for d in digests]


def _ids(digests):
    return [(bytes(d), pk) for d, pk in Piece.objects.filter(sha256__in=list(digests)).values_list("sha256", "id")]


def pieces_of(streams):
    """{stream id: (samples in a piece, [piece ids])} of Streams, in one query."""
    out = {s.pk: (0, []) for s in streams}
    rows = Chunk.objects.filter(stream__in=out).order_by("stream_id", "number")
    for stream, samples, piece in rows.values_list("stream_id", "samples", "piece_id"):
        per_piece, pieces = out[stream]
        out[stream] = (per_piece or samples, [*pieces, piece])
    return out


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
    chunks = stream.chunks.filter(first_sample__lt=end, first_sample__gt=start - F("samples")).order_by("number")
    sql, parameters = chunks.values_list("first_sample", "samples", "piece__payload").query.sql_with_params()
    with connection.cursor() as cursor:
        cursor.cursor.format = Format.BINARY  # as text every byte would come as two letters, at a fifth of the speed
        cursor.execute(sql, parameters)
        return cursor.fetchall()


def _batches(stream, start, end):
    for first, samples, payload in _rows(stream, start, end):
        low, high = max(start, first), min(end, first + samples)
        if low >= high:
            continue
        yield _unpacked(payload).slice(low - first, high - low)


def read_stream(stream, start=0, end=None):
    """Samples [start, end) as float32 (T, ...)."""
    end = stream.samples if end is None else min(end, stream.samples)
    parts = [b.column(0).flatten().to_numpy(zero_copy_only=False) for b in _batches(stream, start, end)]
    flat = np.concatenate(parts) if parts else np.zeros(0, dtype=np.float32)
    return flat.reshape((-1, *stream.shape))


def arrow_bytes(rows, about):
    """Samples (T, ...) as one Arrow IPC stream for the browser, with plain JSON `about` them in its metadata."""
    flat = np.asarray(rows).reshape(len(rows), -1)
    schema = _schema(flat.shape[1]).with_metadata({"about": json.dumps(about)})
    sink = pa.BufferOutputStream()
    with pa.ipc.new_stream(sink, schema) as writer:
        writer.write_batch(_batch(flat).replace_schema_metadata(schema.metadata))
    return sink.getvalue().to_pybytes()


def stream_bytes(stream, start=0, end=None, step=1):
    """Samples [start, end) thinned by `step` as one Arrow IPC stream, for the browser."""
    end = stream.samples if end is None else min(end, stream.samples)
    width = math.prod(stream.shape)
    if step == 1:
        return _ipc(_batches(stream, start, end), width)
    flat = read_stream(stream, start, end).reshape(-1, width)
    if stream.kind in WORST_COUNTS and len(flat):  # plain thinning would lose the clap, or the one frame that is wrong
        thinned = np.fmax.reduceat(np.abs(flat), np.arange(0, len(flat), step))
    else:
        thinned = flat[::step]
    return _ipc([_batch(thinned)], width)


FRAMES_BETWEEN = 60  # marks of where a frame's rows begin


def write_centroids(take, name, rate, centroids, names, stamps=(), recording=None):
    """Store formats.centroids.Centroids as a stream whose samples are rows; `details` says where frames begin."""
    frames = centroids.frames
    marks = np.searchsorted(centroids.frame, np.arange(0, frames + FRAMES_BETWEEN, FRAMES_BETWEEN))
    details = frames_document(names, frames, marks.tolist())
    return write_stream(
        take, name, "centroids", rate, centroids.rows(), stamps=stamps, details=details, recording=recording
    )


def frames_document(names, frames, marks, every=FRAMES_BETWEEN):
    """What the details of a centroid stream say: its cameras, and in which row every so many frames begin."""
    return {"cameras": list(names), "frames": frames, "every": every, "marks": marks}


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
