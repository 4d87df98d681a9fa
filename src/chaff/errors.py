"""What can go wrong, said so that the user can mend it: what happened, where, and what to do."""

from __future__ import annotations

import difflib
from collections.abc import Iterable


class ChaffError(Exception):
    """Every error that Chaff raises on purpose. `exit_code` is what the command line returns for it."""

    exit_code = 3


class DataError(ChaffError, ValueError):
    """Something in the data is not as it has to be: names the column, says what and what to do."""


class UnknownColumn(DataError, KeyError):
    """A column was named that the table does not have."""

    def __str__(self) -> str:
        return str(self.args[0])


class UsageError(ChaffError, ValueError):
    """An argument or option has a value that makes no sense."""

    exit_code = 2


class ArgumentError(UsageError, TypeError):
    """An argument of a call is of a type that it cannot be, is missing, or is none of the call's."""


class PlanError(UsageError):
    """A plan cannot be run: where in the file, and what was expected."""


class ModelError(ChaffError, RuntimeError):
    """A model failed while it was fitted or while it predicted."""

    exit_code = 4


class WorkerError(ChaffError, RuntimeError):
    """Workers in other processes ended, or cannot be reached."""

    exit_code = 5


def nearest(name: str, names: Iterable[str]) -> str:
    """` Did you mean 'protein_pct'?` with a leading blank, or nothing when no name is near."""
    close = difflib.get_close_matches(str(name), [str(n) for n in names], n=1, cutoff=0.6)
    return f" Did you mean '{close[0]}'?" if close else ""
