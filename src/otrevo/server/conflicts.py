"""Two people change one thing: the second is told, and shown both."""

from otrevo.core.errors import InputError


class Conflict(InputError):
    """Somebody else was quicker. theirs: {what: its value now}; by: who; version: the one that a second attempt is based on."""

    def __init__(self, sentence, theirs, by="", version=0):
        super().__init__(sentence)
        self.theirs, self.by, self.version = theirs, by, version
