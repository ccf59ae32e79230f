"""What can go wrong, in one place: every error the tool raises on purpose derives from `ZentraleError`.

An error carries the whole message a person needs (what, where, what was expected, what to do) and the exit
code of the program. Everything else that escapes is a defect of the tool.
"""

from __future__ import annotations

from collections.abc import Sequence

EXIT_AS_PLANNED = 0
EXIT_FAULTS = 1
EXIT_BAD_INPUT = 2
EXIT_NOTHING_REACHED = 3
EXIT_INTERRUPTED = 130


class ZentraleError(Exception):
    """Base of all deliberate errors."""

    exit_code = EXIT_BAD_INPUT

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

    def __init__(self, problems: Sequence[str], what: str = "the plan", command: str = "check") -> None:
        count = len(problems)
        super().__init__(
            f"{what} has {count} error{'s' if count != 1 else ''}",
            f"correct the lines above, then run `zentrale {command}`; nothing was changed",
        )
        self.problems = list(problems)


class NothingReachedError(ZentraleError):
    """Not one device or stream answered."""

    exit_code = EXIT_NOTHING_REACHED


class DeviceError(ZentraleError):
    """A device answered wrongly, refused, or did not answer. The work on other devices goes on."""


class RefusedError(DeviceError):
    """The device refused the credentials (or asks for some)."""


class UnreachableError(DeviceError):
    """The device did not answer: no route, connection refused, or silence."""


class RemoteProtocolError(DeviceError):
    """The other side broke the protocol: malformed, oversized or out of order."""


class LocalProtocolError(Exception):
    """We asked a protocol object for something its state forbids: a defect of the tool."""
