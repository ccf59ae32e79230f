"""What holds for every conversation with a device: who is asked before credentials go out, and what may go in clear."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from weakref import WeakValueDictionary

from zentrale.errors import ClearTextError, RemoteProtocolError
from zentrale.field.sessions import Sessions
from zentrale.protocols.doors import Door, Ledger, OpenLedger, Outcome, Purpose, Target, Ticket
from zentrale.protocols.http_auth import BASIC, Challenge, Credentials, Offers

# host, port, DER certificate; raises CertificateError where it must not be trusted
CheckCertificate = Callable[[str, int, bytes], None]


# host, credentials; raises ClearTextError where these may not go there in a way that can be read on the way
CheckReadable = Callable[[str, Credentials | None], None]


def any_certificate(host: str, port: int, certificate: bytes) -> None:
    """Takes every certificate: for conversations in which no secret is sent."""


def anybody(host: str, credentials: Credentials | None) -> None:
    """Nothing speaks against it: an address that a person typed, with the password typed for it."""


class _Turns:
    """One lock a device: unproven credentials go to it one after the other, over all its doors."""

    def __init__(self) -> None:
        self._locks: WeakValueDictionary[str, asyncio.Lock] = WeakValueDictionary()

    def of(self, target: Target) -> asyncio.Lock:
        lock = self._locks.get(target.host)
        if lock is None:
            lock = self._locks[target.host] = asyncio.Lock()
        return lock


@dataclass(frozen=True)
class Rules:
    """basic_in_clear: the password may go in clear over a connection without TLS, since the device takes it no other way

    check_readable: asked besides, with host and credentials, before anything goes out that can be read on the way
    http_port, rtsp_port: where the device is reached though it tells its own ports, since a translation stands before it
    """

    ledger: Ledger = field(default_factory=OpenLedger)
    check_certificate: CheckCertificate = any_certificate
    basic_in_clear: bool = False
    turns: _Turns = field(default_factory=_Turns, repr=False)
    sessions: Sessions = field(default_factory=Sessions, repr=False)
    http_port: int | None = None
    rtsp_port: int | None = None
    check_readable: CheckReadable = anybody

    def choose(
        self, offers: Offers, *, secure: bool, host: str = "", credentials: Credentials | None = None
    ) -> Challenge | None:
        """The strongest offer that `credentials` may answer; None where nothing is offered. Raises ClearTextError where only the
        password in clear would do, RemoteProtocolError where nothing offered is known.
        """
        for challenge in offers.challenges:
            if challenge.scheme != BASIC or secure:
                return challenge
            if self.basic_in_clear:
                if credentials is not None:
                    self.check_readable(host, credentials)
                return challenge
        if offers.challenges:
            raise ClearTextError(
                "it takes the password only in clear (Basic, without TLS); it was not sent",
                "turn digest authentication or HTTPS on in its own page; where it has neither, allow it with "
                "basic_in_clear = true for its type in types.toml",
            )
        if offers.unknown:
            raise RemoteProtocolError(f"it asks for authentication that is not known here: {', '.join(offers.unknown)}")
        return None


class Try:
    """Credentials under way: a ticket of the ledger, settled once, whatever happens. Those that were accepted and are
    refused later (changed meanwhile, or not good for all) count from then on, as all others do.
    """

    def __init__(self, rules: Rules, ticket: Ticket, lock: asyncio.Lock | None) -> None:
        self._rules = rules
        self._ticket = ticket
        self._lock = lock
        self._outcome: Outcome | None = None

    @classmethod
    async def begin(
        cls, rules: Rules, target: Target, door: Door, scheme: str, credentials: Credentials, purpose: Purpose
    ) -> Try:
        """Wait for the device's turn, and ask the ledger. Raises NotAskedError or LockedError."""
        lock = rules.turns.of(target)
        await lock.acquire()
        try:
            ticket = rules.ledger.admit(target, door, scheme, credentials, purpose)
        except BaseException:
            lock.release()
            raise
        return cls(rules, ticket, lock)

    def settle(self, outcome: Outcome) -> None:
        if self._outcome is Outcome.ACCEPTED and outcome is Outcome.REFUSED:
            self._outcome = outcome
            self._rules.ledger.settle(replace(self._ticket, id=None, purpose=Purpose.ENTER), outcome)
            return
        if self._outcome is not None:
            return
        self._outcome = outcome
        try:
            self._rules.ledger.settle(self._ticket, outcome)
        finally:
            if self._lock is not None:
                self._lock.release()
                self._lock = None

    def locked(self, wait_s: float | None) -> None:
        """The device said that it is locked. Raises LockedError where a ledger is kept."""
        self.settle(Outcome.REFUSED)
        self._rules.ledger.lock(self._ticket.target, wait_s)
