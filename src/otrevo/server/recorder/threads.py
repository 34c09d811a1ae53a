"""The functions of recorder.database for the recorder's threads: each closes the connection that it opened."""

from functools import wraps

from django.db import connection

from otrevo.server.recorder import database


def _alone(function):
    @wraps(function)
    def work(*arguments):
        try:
            return function(*arguments)
        finally:
            connection.close()

    return work


prepare, keep_take, store_room = map(_alone, (database.prepare, database.keep_take, database.store_room))
is_waited_for, is_rolling, keep_left_over, has_database = map(
    _alone, (database.is_waited_for, database.is_rolling, database.keep_left_over, database.has_database)
)
go_on_storing, forget = map(_alone, (database.go_on_storing, database.forget))
