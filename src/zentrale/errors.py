"""What can go wrong, in one place: every error the tool raises on purpose derives from `ZentraleError`.

An error carries the whole message a person needs (what, where, what was expected, what to do), the exit code of the
program, and whose fault it is. Everything else that escapes is a defect of the tool.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from enum import Enum

EXIT_AS_PLANNED = 0
EXIT_FAULTS = 1
EXIT_BAD_INPUT = 2
EXIT_NOTHING_REACHED = 3
EXIT_DEFECT = 70  # EX_SOFTWARE of sysexits.h: the program itself failed
EXIT_INTERRUPTED = 130


class Whose(Enum):
    """Whose fault an error is. What a device sends is never the person's input."""

    INPUT = "what was typed or planned"
    DEVICE = "the device"
    NETWORK = "the network, or the device is gone"
    MACHINE = "this machine"
    DEFECT = "this program"


class ZentraleError(Exception):
    """Base of all deliberate errors."""

    exit_code = EXIT_BAD_INPUT
    whose = Whose.INPUT

    def __init__(self, what: str, advice: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.advice = advice


class InputError(ZentraleError):
    """The person gave something that cannot be used: an option, a file, a passphrase."""


class TwiceError(InputError):
    """The time that was said comes twice that day: `both` are the moments, the earlier one first."""

    def __init__(self, text: str, zone: str, both: tuple[datetime, datetime]) -> None:
        self.both = both
        said = " or ".join(f"{text}{at:%z}"[:-2] + f":{at:%z}"[-2:] + f" ({at.tzname()})" for at in both)
        super().__init__(f"{text}: comes twice in {zone}, when the clocks are set back", f"write {said}")


class PlanError(ZentraleError):
    """The plan files, or a schedule to take in, hold errors; `problems` lists all of them, each a line a person can
    act on.
    """

    def __init__(
        self, problems: Sequence[str], what: str = "the plan", command: str = "check", instead: str = ""
    ) -> None:
        """`instead`: what else can be done than correcting the lines."""
        count = len(problems)
        super().__init__(
            f"{what.rstrip(',')} has {count} error{'s' if count != 1 else ''}",
            f"correct the lines above, then run `zentrale {command}`{f'; {instead}' if instead else ''}; nothing was changed",
        )
        self.problems = list(problems)


class StorageError(ZentraleError):
    """This machine does not let a file be read or written: full disk, rights, a lock, a newer format."""

    whose = Whose.MACHINE


class PassphraseChangedError(ZentraleError):
    """Another process gave the vault another passphrase: the key in hand opens it no more."""


class NoHeaderError(InputError):
    """No row holds names that are known to stand above the columns of a schedule."""


class LabError(ZentraleError):
    """This machine did not do what the laboratory of a rehearsed network needs."""

    whose = Whose.MACHINE


class FileRefusedError(LabError):
    """A switch did not take the commands of its file: nothing else can be tried."""


class NothingReachedError(ZentraleError):
    """Not one device or stream answered."""

    exit_code = EXIT_NOTHING_REACHED
    whose = Whose.NETWORK


class DeviceError(ZentraleError):
    """A device answered wrongly, refused, or did not answer. The work on other devices goes on.

    subcodes: the names of the fault it answered with, outermost first; empty where it was none
    """

    whose = Whose.DEVICE
    subcodes: tuple[str, ...] = ()


class NotOfferedError(DeviceError):
    """The device does not do this at all: no service, no operation, or not with this value."""


class TooBigError(DeviceError):
    """An answer that does not fit into what carries it; the half of it may."""


class NotToldError(DeviceError):
    """A table that a switch did not tell, or not so that it can be used; says why."""


class NoEndError(NotToldError):
    """A table that goes on and on, or takes for ever."""


class RefusedError(DeviceError):
    """The device refused the credentials (or asks for some)."""


class ForbiddenError(RefusedError):
    """The server does not ask who it is, or knows it, and does not let this one see the stream (403)."""


class UnknownServiceError(RefusedError):
    """It wants a password before it says what it is, and nothing else says that it is a device of this trade."""


class AnotherDeviceError(RefusedError):
    """Another device than the claimed one answers. `why` says by what that is known."""

    def __init__(self, why: str) -> None:
        super().__init__(f"another device answers here: {why}; no password of the other one was sent to it")
        self.why = why


class LockedError(RefusedError):
    """The device says that the account is locked. `until` is when it may be asked again."""

    def __init__(self, what: str, until: datetime) -> None:
        super().__init__(what, "wait; further passwords would only keep it locked")
        self.until = until


class NotAskedError(DeviceError):
    """The device was not asked, so that it does not lock the account. `until` is when it can be."""

    whose = Whose.INPUT

    def __init__(self, what: str, until: datetime) -> None:
        super().__init__(what, "wait until then, or use --patient")
        self.until = until


class ClearTextError(DeviceError):
    """The device takes the password only in clear, over a connection that anybody on the way can read."""


class CertificateError(DeviceError):
    """The device shows another certificate than the one it was first seen with, or one nobody has accepted."""


class AddressTakenError(DeviceError):
    """Another device answers at the address that a device was to have, or had."""


class NotFoundError(DeviceError):
    """The recorder was not found, so it was not asked."""


class TroubleError(DeviceError):
    """The server fails by its own account (HTTP 5xx), more than once."""


class CannotPinError(DeviceError):
    """This machine does not let one address be tied to one device: another system, no rights, or not on its own link."""


class MachineError(DeviceError):
    """This machine did not let it be tried: no more files, ports or buffers. No device is judged by that."""

    whose = Whose.MACHINE


class UnreachableError(DeviceError):
    """The device did not answer: no route, connection refused, or silence."""

    whose = Whose.NETWORK


class GoneError(UnreachableError):
    """No connection came about: the device restarts, perhaps, and is back soon."""


class LostError(UnreachableError):
    """A connection that had come about broke before the answer was whole."""


class LateError(UnreachableError):
    """Something is there, but its answer did not come within the time given to it."""


class SilentError(LateError):
    """The server is there and answers no more."""


class UnsureError(DeviceError):
    """What was asked for may be done or not: its answer was lost, or could not be used."""


class RemoteProtocolError(DeviceError):
    """The other side broke the protocol: malformed, oversized or out of order."""


class Cause(Enum):
    """Why a stream does not play, in a word."""

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
    """The server is there, and the stream does not play."""

    def __init__(self, what: str, cause: Cause, status: int = 0) -> None:
        super().__init__(what)
        self.cause = cause
        self.status = status


class MulticastOfferedError(PlayError):
    """The description says that the stream is sent to a multicast group, and another way was taken."""


class RedirectedError(PlayError):
    """The stream is at another path or port: `location`, as the server named it."""

    def __init__(self, what: str, location: str) -> None:
        super().__init__(what, Cause.ELSEWHERE)
        self.location = location


class SoapRefusalError(ZentraleError):
    """A stand-in refuses a request, with a fault of this code and these subcodes (SOAP 1.2 part 1, clause 5.4)."""

    def __init__(self, code: str, *subcodes: str, reason: str) -> None:
        super().__init__(reason)
        self.code = code
        self.subcodes = subcodes


class LocalProtocolError(Exception):
    """We asked a protocol object for something its state forbids: a defect of the tool."""
