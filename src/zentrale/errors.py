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


class RefusedError(DeviceError):
    """The device refused the credentials (or asks for some)."""


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


class MachineError(DeviceError):
    """This machine did not let it be tried: no more files, ports or buffers. No device is judged by that."""

    whose = Whose.MACHINE


class UnreachableError(DeviceError):
    """The device did not answer: no route, connection refused, or silence."""

    whose = Whose.NETWORK


class LateError(UnreachableError):
    """Something is there, but its answer did not come within the time given to it."""


class RemoteProtocolError(DeviceError):
    """The other side broke the protocol: malformed, oversized or out of order."""


class LocalProtocolError(Exception):
    """We asked a protocol object for something its state forbids: a defect of the tool."""
