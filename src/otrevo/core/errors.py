"""The one kind of error a user reads: what happened, where, and what was expected."""


class InputError(ValueError):
    """Input that cannot be used. The message is one sentence for the user: what, where, what was expected."""
