"""The ledger of refused credentials: one for all doors of a device and all commands, so that none locks it.

Devices lock an account after some wrong passwords, the strictest at the third. So at most two are tried within a window.
What was sent and not answered counts as refused: whoever died in between leaves it so. It does not count against the same
credentials, since they may have been the right ones. Credentials stand here as fingerprints only, made with a key that lies in
the vault.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime

from zentrale.errors import LockedError, NotAskedError
from zentrale.logbook.processes import lives, this_process
from zentrale.logbook.store import Logbook
from zentrale.protocols.doors import Door, Outcome, Purpose, Target, Ticket
from zentrale.protocols.http_auth import Credentials
from zentrale.quantities import clock_time, count

TRIES = 2  # one less than the strictest device bears
MAX_LOCK_S = 24 * 3600.0  # what a device may ask us to wait; a longer time is nonsense
_UNDER_WAY_S = 60.0  # longer than any answer is waited for
_COUNTED = ("pending", "refused", "unclear")


@dataclass(frozen=True)
class Patience:
    """How often a device may refuse within a window, as the person asks for it. `patient`: wait the windows out."""

    window_s: float
    tries: int = TRIES
    patient: bool = False


class RefusalLedger:
    """The ledger of one site. `fingerprint` makes of credentials what the logbook may know."""

    def __init__(
        self,
        logbook: Logbook,
        patience: Patience,
        fingerprint: Callable[[Credentials], str],
        now_s: Callable[[], float] = time.time,
    ) -> None:
        self._log = logbook
        self.patience = patience
        self._fingerprint = fingerprint
        self._now_s = now_s
        self.started_s = now_s()

    # What field/ asks

    def admit(self, target: Target, door: Door, scheme: str, credentials: Credentials, purpose: Purpose) -> Ticket:
        """Leave to send `credentials` once. Raises NotAskedError, or LockedError where the device said so."""
        account = self._account(credentials)
        ticket = Ticket(target, door, scheme, self._fingerprint(credentials), purpose, account=account)
        with self._log.transaction():  # counting and writing are one: another process may ask at this moment
            now = self._now_s()
            self._check_lock(target, now)
            if purpose is Purpose.PROVE:
                return ticket
            if purpose is Purpose.ENTER and self._opened(target, door, [account]) == (ticket.fingerprint, scheme):
                return ticket
            self._check_window(ticket, now)
            number = self._write(ticket, "pending", now)
        return replace(ticket, id=number)

    def settle(self, ticket: Ticket, outcome: Outcome) -> None:
        target = ticket.target
        with self._log.transaction():
            if outcome in (Outcome.ACCEPTED, Outcome.VOID):
                self._log.execute("DELETE FROM attempt WHERE id = ?", (ticket.id,))
                if (
                    outcome is Outcome.ACCEPTED
                ):  # then what a killed run left open with them was no wrong password either
                    self._log.execute(
                        "DELETE FROM attempt WHERE state = 'unclear' AND fingerprint = ? AND door = ? AND host = ?",
                        (ticket.fingerprint, ticket.door.value, target.host),
                    )
            elif ticket.id is not None:
                # From now on, not from when it was sent: the device counts from when it refused.
                now = self._now_s()
                self._log.execute("UPDATE attempt SET state = ?, at = ? WHERE id = ?", (outcome.value, now, ticket.id))
            elif outcome is Outcome.REFUSED and ticket.purpose is not Purpose.PROVE:
                # They opened this door before, and do no more: from now on they count as all others do.
                self._write(ticket, outcome.value, self._now_s())
            if outcome is Outcome.REFUSED:
                self._log.execute(
                    "DELETE FROM opened WHERE fingerprint = ? AND door = ? AND "
                    "((host = ? AND port = ?) OR (endpoint != '' AND endpoint = ?))",
                    (ticket.fingerprint, ticket.door.value, target.host, target.port, target.endpoint),
                )
            if outcome is Outcome.ACCEPTED and ticket.purpose is not Purpose.STRANGER:
                self._log.execute(
                    "INSERT OR REPLACE INTO opened VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                    (target.host, target.port, target.endpoint, ticket.door.value, ticket.scheme, ticket.fingerprint,
                     self._now_s(), ticket.account),
                )  # fmt: skip

    def lock(self, target: Target, wait_s: float | None) -> None:
        """The device says that it is locked. Raises LockedError, always."""
        now = self._now_s()
        until = now + min(wait_s or self.patience.window_s, MAX_LOCK_S)
        self._write(Ticket(target, Door.ONVIF, "", "", Purpose.ENTER), "locked", now, until)
        self._check_lock(target, now)

    def refused(self, target: Target, door: Door, scheme: str, credentials: Credentials, at_s: Sequence[float]) -> None:
        """These were refused at these moments, while the device had its time, and it has not taken them since."""
        ticket = Ticket(target, door, scheme, self._fingerprint(credentials), Purpose.ENTER)
        with self._log.transaction():
            for at in at_s:
                self._write(ticket, Outcome.REFUSED.value, at)

    # What jobs/ ask

    def in_turn(
        self,
        target: Target,
        door: Door,
        tries: Sequence[Credentials],
        schemes: Sequence[str],
        *,
        pending: Collection[Credentials] = (),
        public: Collection[Credentials] = (),
    ) -> list[tuple[Credentials, str]]:
        """`tries` by each of `schemes`, in the order in which they should be tried: what opened the door last, then `pending`
        ones (sent, and not seen to open yet), then what never failed there, then what failed, longest ago first. Makers'
        defaults (`public`) never go before a pending one. In a patient run, what it has tried is left out.
        """
        opened = self._opened(target, door, {self._account(c) for c in tries})
        order = []
        for index, credentials in enumerate(dict.fromkeys(tries)):
            mark = self._fingerprint(credentials)
            waits = credentials in pending and not self._last_failure(target, door, mark, states=("refused",))
            for rank, scheme in enumerate(schemes):
                failed_s = self._last_failure(target, door, mark, scheme)
                if self.patience.patient and failed_s >= self.started_s:
                    continue
                first = opened == (mark, scheme) and not (credentials in public and pending)
                second = waits and rank == 0
                order.append((not first, not second, failed_s, rank, index, credentials, scheme))
        return [(item[5], item[6]) for item in sorted(order, key=lambda item: item[:5])]

    def waits_until(self, target: Target) -> datetime | None:
        """When the last refusal leaves the window; None where none is in it: the device is then asked with nothing before it."""
        row = self._log.execute(
            "SELECT max(at) FROM attempt WHERE state IN (?, ?, ?) AND at > ? AND (host = ? OR (endpoint != '' AND endpoint = ?))",
            (*_COUNTED, self._now_s() - self.patience.window_s, target.host, target.endpoint),
        ).fetchone()
        return None if row[0] is None else datetime.fromtimestamp(row[0] + self.patience.window_s, UTC)

    def last_asked(self, target: Target, door: Door, credentials: Credentials) -> float:
        """When these were last tried at this door [s since 1970]; 0 where never."""
        return self._last_failure(target, door, self._fingerprint(credentials))

    # The rows

    def _write(self, ticket: Ticket, state: str, at: float, until: float = 0.0) -> int | None:
        target = ticket.target
        cursor = self._log.execute(
            "INSERT INTO attempt (at, host, port, endpoint, door, scheme, fingerprint, purpose, state, until, process) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (at, target.host, target.port, target.endpoint, ticket.door.value, ticket.scheme, ticket.fingerprint,
             ticket.purpose.value, state, until, this_process()),
        )  # fmt: skip
        return cursor.lastrowid

    def _account(self, credentials: Credentials) -> str:
        return self._fingerprint(Credentials(credentials.user, ""))

    def _opened(self, target: Target, door: Door, accounts: Collection[str]) -> tuple[str, str] | None:
        """What opened it last as one of these accounts; of an older logbook, which did not tell them apart, as any."""
        row = self._log.execute(
            f"SELECT fingerprint, scheme FROM opened WHERE door = ? AND account IN ({', '.join('?' * (len(accounts) + 1))}) AND "
            "((host = ? AND port = ?) OR (endpoint != '' AND endpoint = ?)) ORDER BY at DESC LIMIT 1",
            (door.value, "", *accounts, target.host, target.port, target.endpoint),
        ).fetchone()
        return None if row is None else (row[0], row[1])

    def _last_failure(
        self,
        target: Target,
        door: Door,
        fingerprint: str,
        scheme: str = "",
        states: tuple[str, ...] = ("refused", "unclear", "pending"),
    ) -> float:
        """When these last failed there; a port of 0 stands for any. What is under way just now has not failed."""
        row = self._log.execute(
            "SELECT max(at) FROM attempt WHERE door = ? AND fingerprint = ? AND (? = '' OR scheme = ?) AND "
            "((host = ? AND (? = 0 OR port = ?)) OR (endpoint != '' AND endpoint = ?)) AND "
            f"state IN ({', '.join('?' * len(states))}) AND (state != 'pending' OR at < ?)",
            (door.value, fingerprint, scheme, scheme, target.host, target.port, target.port, target.endpoint,
             *states, self._now_s() - _UNDER_WAY_S),
        ).fetchone()  # fmt: skip
        return float(row[0] or 0)

    def _check_lock(self, target: Target, now: float) -> None:
        row = self._log.execute(
            "SELECT max(until) FROM attempt WHERE state = 'locked' AND (host = ? OR (endpoint != '' AND endpoint = ?))",
            (target.host, target.endpoint),
        ).fetchone()
        if row[0] and row[0] > now:
            until = datetime.fromtimestamp(row[0], UTC)
            raise LockedError(f"the device says that it is locked; it is left alone until {clock_time(until)}", until)

    def _check_window(self, ticket: Ticket, now: float) -> None:
        target, patience = ticket.target, self.patience
        found = self._log.execute(
            "SELECT at, door, fingerprint, purpose, state, process, id FROM attempt WHERE state IN (?, ?, ?) AND at > ? AND "
            "(host = ? OR (endpoint != '' AND endpoint = ?)) ORDER BY at",
            (*_COUNTED, now - patience.window_s, target.host, target.endpoint),
        ).fetchall()
        # What a killed run had under way may have been right: it does not stand in its own way, once.
        left = {r[6] for r in found if r[2] == ticket.fingerprint and r[4] == "pending" and not lives(r[5])}
        self._log.execute_many("UPDATE attempt SET state = 'unclear' WHERE id = ?", [(number,) for number in left])
        rows = [r for r in found if r[6] not in left]
        if len(rows) >= patience.tries:
            until = datetime.fromtimestamp(rows[len(rows) - patience.tries][0] + patience.window_s, UTC)
            since = datetime.fromtimestamp(rows[0][0], UTC)
            refused = count(len(rows), "password was", "passwords were")
            raise NotAskedError(
                f"not asked: {refused} refused since {clock_time(since)}; it can be from {clock_time(until)} on", until
            )
        same = [r for r in rows if r[2] == ticket.fingerprint]
        if ticket.purpose is Purpose.STRANGER and same and patience.tries <= TRIES:
            until = datetime.fromtimestamp(same[-1][0] + patience.window_s, UTC)
            raise NotAskedError(
                f"not asked: the same password was tried at its {same[-1][1]} door; it can be from "
                f"{clock_time(until)} on", until,
            )  # fmt: skip
