"""Why a stream does not play: the errors of a player, each with its cause in a word."""

from __future__ import annotations

from enum import Enum

from zentrale.errors import DeviceError, LateError, MachineError, RefusedError, RemoteProtocolError, UnreachableError
from zentrale.protocols.rtsp_client import StreamAddress


class Cause(Enum):
    """Why a stream does not play."""

    NO_ANSWER = "no answer"
    PASSWORD = "password refused"
    FORBIDDEN = "forbidden"
    PATH = "no such path"
    TRANSPORT = "no such transport"
    BUSY = "server busy"
    DESCRIPTION = "nonsense in the description"
    CLOSED = "connection closed"
    SILENT = "no more answers"
    ELSEWHERE = "sent elsewhere"
    MACHINE = "this machine"
    OTHER = "another reason"


class PlayError(RemoteProtocolError):
    """The server is there, and the stream does not play; `cause` says why, in a word."""

    def __init__(self, what: str, cause: Cause, status: int = 0) -> None:
        super().__init__(what)
        self.cause = cause
        self.status = status


class MulticastOfferedError(PlayError):
    """The description says that the stream is sent to a multicast group, and another way was taken."""


class ForbiddenError(RefusedError):
    """The server does not ask who it is, or knows it, and does not let this one see the stream (403)."""


class SilentError(LateError):
    """The server is there and answers no more."""


class RedirectedError(PlayError):
    """The stream is at another path or port of the same host."""

    def __init__(self, what: str, address: StreamAddress) -> None:
        super().__init__(what, Cause.ELSEWHERE)
        self.address = address


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
