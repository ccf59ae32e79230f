"""What is asked before any credentials are sent to a device, and told after: the interface of the ledger of refusals.

`field/` asks through it; `logbook/` keeps it; nothing here does either.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import Enum
from typing import Protocol

from zentrale.protocols.http_auth import Credentials

_LOCKED = re.compile(r"locked|lock(ing)?[ -]?out|too many|blocked|suspended|attempts exceeded|http 4(23|29)\b")
_CAMEL = re.compile(r"(?<=[a-z])(?=[A-Z])")
_WAIT = re.compile(r"(\d{1,5})\s*(s|sec|seconds?|m|min|minutes?|h|hours?)\b")
_UNIT_S = {"s": 1, "m": 60, "h": 3600}


def tells_of_a_lock(refusal: str) -> bool:
    """Whether a refusal (a fault, a reason phrase) says that the account is locked. No standard has a code for it."""
    return bool(_LOCKED.search(_CAMEL.sub(" ", refusal).lower()))


def wait_told(refusal: str, retry_after: str = "") -> float | None:
    """How long to wait [s], from a Retry-After header (RFC 9110 clause 10.2.3) or the words; None where it is not told."""
    if retry_after.isascii() and retry_after.isdigit() and len(retry_after) < 7:
        return float(retry_after)
    found = _WAIT.search(refusal.lower())
    return float(found[1]) * _UNIT_S[found[2][0]] if found else None


class Door(Enum):
    """A service of a device that asks for credentials. A device counts wrong ones over all of them."""

    ONVIF = "ONVIF"
    RTSP = "RTSP"


class Purpose(Enum):
    """Why credentials are sent: to do the work, to see that the maker's default password is refused, or to see that a password
    which was set a moment ago opens. The last is asked of no window and counted in none: the device still has its time.
    """

    ENTER = "enter"
    STRANGER = "stranger"
    PROVE = "prove"


class Outcome(Enum):
    """What came of it. `UNCLEAR`: no answer, so the device may have counted it; `VOID`: an answer that says nothing of
    the credentials, such as 404 or 500.
    """

    ACCEPTED = "accepted"
    REFUSED = "refused"
    UNCLEAR = "unclear"
    VOID = "void"


@dataclass(frozen=True)
class Target:
    """A device, as far as it is known before it lets anybody in. `endpoint` empty: unknown, or shared by several.

    Refusals count for the host; what opened a door is remembered for its port, since two devices may stand behind one
    address.
    """

    host: str
    port: int = 0
    endpoint: str = ""


@dataclass(frozen=True)
class Ticket:
    """Leave to send credentials once. `id` None where they opened this door before and are not counted; `account` is the
    fingerprint of the user alone.
    """

    target: Target
    door: Door
    scheme: str
    fingerprint: str
    purpose: Purpose
    id: int | None = None
    account: str = ""


class Ledger(Protocol):
    """Keeps count of refused credentials."""

    def admit(self, target: Target, door: Door, scheme: str, credentials: Credentials, purpose: Purpose) -> Ticket:
        """Raises NotAskedError, or LockedError where the device has said that it is locked."""

    def settle(self, ticket: Ticket, outcome: Outcome) -> None: ...

    def lock(self, target: Target, wait_s: float | None) -> None:
        """The device says that it is locked, and for how long where it tells. Raises LockedError, always."""


class OpenLedger:
    """Counts nothing: for an address that a person typed, with the one password typed for it."""

    def admit(self, target: Target, door: Door, scheme: str, credentials: Credentials, purpose: Purpose) -> Ticket:
        return Ticket(target, door, scheme, "", purpose)

    def settle(self, ticket: Ticket, outcome: Outcome) -> None:
        """Nothing is kept."""

    def lock(self, target: Target, wait_s: float | None) -> None:
        """Nothing is kept; the answer itself is told."""
