"""Why a stream does not play: the errors of a player, each with its cause in a word."""

from __future__ import annotations

from zentrale.errors import (
    Cause,
    DeviceError,
    ForbiddenError,
    MachineError,
    PlayError,
    RefusedError,
    SilentError,
    UnreachableError,
)


def cause_of(error: DeviceError) -> Cause:
    if isinstance(error, PlayError):
        return error.cause
    if isinstance(error, ForbiddenError):
        return Cause.FORBIDDEN
    if isinstance(error, RefusedError):
        return Cause.PASSWORD
    if isinstance(error, MachineError):
        return Cause.MACHINE
    if isinstance(error, SilentError):
        return Cause.SILENT
    return Cause.NO_ANSWER if isinstance(error, UnreachableError) else Cause.OTHER


# RFC 2326 clause 11.3, and what servers answer in practice.
CAUSES = {
    400: Cause.PATH, 404: Cause.PATH, 410: Cause.PATH, 451: Cause.PATH, 454: Cause.CLOSED, 461: Cause.TRANSPORT,
    453: Cause.BUSY, 503: Cause.BUSY,
}  # fmt: skip
