"""How much room takes and productions have in the database, in bytes of samples and files."""

from django.db import connection
from django.db.models import Sum
from django.db.models.functions import Length

from otrevo.server.cast.models import Character
from otrevo.server.handover.models import Package

# what several streams of a take share counts once; the length of a large value is known without reading it
BY_TAKE = """
SELECT of_take.take_id, sum(octet_length(piece.payload))
FROM (SELECT DISTINCT stream.take_id, chunk.piece_id FROM takes_stream stream
      JOIN takes_chunk chunk ON chunk.stream_id = stream.id
      JOIN takes_take take ON take.id = stream.take_id JOIN shoot_slate slate ON slate.id = take.slate_id
      JOIN shoot_shootday day ON day.id = slate.day_id WHERE day.production_id = %s) of_take
JOIN takes_piece piece ON piece.id = of_take.piece_id GROUP BY of_take.take_id
"""
OF_ROOM = """
SELECT coalesce(sum(octet_length(piece.payload)), 0)
FROM (SELECT DISTINCT chunk.piece_id FROM takes_stream stream
      JOIN takes_chunk chunk ON chunk.stream_id = stream.id
      JOIN stage_stagerecording recording ON recording.id = stream.recording_id
      JOIN stage_room room ON room.id = recording.room_id WHERE room.production_id = %s) of_room
JOIN takes_piece piece ON piece.id = of_room.piece_id
"""


def bytes_by_take(production_id):
    """{take id: bytes} of all takes of a production that have samples, removed ones too."""
    with connection.cursor() as cursor:
        cursor.execute(BY_TAKE, [production_id])
        return {take: int(size) for take, size in cursor.fetchall()}


def other_bytes(production_id):
    """{what: bytes} of what a production has beside its takes."""
    with connection.cursor() as cursor:
        cursor.execute(OF_ROOM, [production_id])
        room = int(cursor.fetchone()[0])
    packages = Package.objects.filter(production=production_id).aggregate(sum=Sum("archive_bytes"))["sum"]
    characters = Character.objects.filter(production=production_id).aggregate(sum=Sum(Length("file")))["sum"]
    return {"room": room, "packages": packages or 0, "characters": characters or 0}
