"""Talking to one switch by SNMP: the messages are pysnmp's, the pace and what an answer is worth are ours.

The package is loaded where a switch is asked first: it costs a quarter of a second.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from types import TracebackType
from typing import Any

from zentrale.errors import (
    DeviceError,
    ForbiddenError,
    LateError,
    NoEndError,
    NotOfferedError,
    NotToldError,
    RefusedError,
    SilentError,
    TooBigError,
)
from zentrale.protocols.mib import tables
from zentrale.protocols.mib.tables import Oid, Table, Value
from zentrale.protocols.snmp_key import SnmpKey

TIMEOUT_S, RETRIES = 1.5, 2
TABLE_S = 20.0  # for one table, beside what the pace takes
_VALUES_AT_ONCE = 60  # in one answer; one that finds it too big is asked for less
_TOO_BIG, _NO_ACCESS = 1, (4, 6, 16, 17)  # error-status, RFC 3416: readOnly, noAccess, authorizationError, notWritable


class Snmp:
    """One switch, asked with one key; a context manager. All calls raise SilentError where nothing comes, and RefusedError
    where the switch does not take the key.
    """

    def __init__(
        self, host: str, port: int, key: SnmpKey, rate: float, *, timeout_s: float = TIMEOUT_S, retries: int = RETRIES
    ) -> None:
        """`rate`: requests a second; 0: as fast as it answers."""
        self.host, self.port, self.key = host, port, key
        self._interval_s = 1.02 / rate if rate else 0.0  # so that no second has one more
        self._next_s = 0.0
        self._patience = timeout_s, retries
        self._answered = False
        self._engine: Any = None
        self._target: Any = None
        self._auth: Any = None

    async def __aenter__(self) -> Snmp:
        await self._begin()
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._engine is not None:
            self._engine.close_dispatcher()

    async def _begin(self) -> None:
        """A fresh engine: it knows nothing of how often a switch was started, nor of its clock (RFC 3414 section 2.2)."""
        from pysnmp.hlapi.v3arch.asyncio import SnmpEngine, UdpTransportTarget

        timeout_s, retries = self._patience
        if self._engine is not None:
            self._engine.close_dispatcher()
        self._engine = SnmpEngine()
        try:
            self._target = await UdpTransportTarget.create((self.host, self.port), timeout=timeout_s, retries=retries)
        except Exception as error:  # noqa: BLE001 - the package raises whatever its socket does
            raise DeviceError(f"cannot be asked: {error}") from None
        self._auth = _auth(self.key)

    def be_patient(self) -> None:
        """From now on lost packets are sent again: it was seen to answer."""
        self._patience = TIMEOUT_S, RETRIES
        self._target.timeout, self._target.retries = TIMEOUT_S, RETRIES

    async def is_there(self) -> bool:
        """Whether anybody answers SNMPv3 at all: a report tells, whoever asks (RFC 3414 section 4)."""
        from pysnmp.hlapi.v3arch.asyncio import UsmUserData, get_cmd

        key, self._auth = self._auth, UsmUserData("nobody")
        try:
            await self._ask(get_cmd, (), [tables.SYS_UP_TIME])
        except SilentError:
            return False
        except DeviceError:
            pass  # a report that refuses is an answer
        finally:
            self._auth = key
        return True

    async def still_there(self) -> bool:
        """After a silence: whether it answers one short question, asked once."""
        self._answered = False
        self._target.retries = 0
        try:
            await self.get([tables.SYS_UP_TIME])
        except DeviceError:
            return False
        self.be_patient()
        return True

    async def get(self, oids: Sequence[Oid]) -> list[Value | None]:
        """None for what it does not have."""
        from pysnmp.hlapi.v3arch.asyncio import get_cmd

        return [value for _, value in await self._ask(get_cmd, (), oids)]

    async def set(self, where: Oid, number: int) -> None:
        """Raises ForbiddenError where the key may not, NotOfferedError where the switch does not take it."""
        from pysnmp.hlapi.v3arch.asyncio import Integer32, set_cmd

        await self._ask(set_cmd, (), [where], Integer32(number))

    async def table(self, table: Table) -> tables.Rows:
        """Raises NotToldError where it does not tell it, or not whole; SilentError where it says nothing at all any more."""
        bindings: list[tuple[Oid, Value | None]] = []
        budget_s = TABLE_S + table.most / _VALUES_AT_ONCE * self._interval_s
        try:
            async with asyncio.timeout(budget_s):
                await self._walk(table, bindings)
        except TimeoutError:
            raise NoEndError(f"not told whole within {budget_s:.0f} s") from None
        except SilentError:
            if not bindings:
                raise
            raise NotToldError(f"it stopped answering after {len(bindings)} values") from None
        return tables.rows_of(table, bindings)

    async def _walk(self, table: Table, into: list[tuple[Oid, Value | None]]) -> None:
        """Each column to its end, as many of them abreast as fit into an answer (GetBulk, RFC 3416 section 4.2.3)."""
        from pysnmp.hlapi.v3arch.asyncio import bulk_cmd

        at = {column: column for column in table.oids}
        most = _VALUES_AT_ONCE
        while at:
            left = list(at)[:most]
            try:
                told = await self._ask(bulk_cmd, (0, max(1, most // len(left))), [at[column] for column in left])
            except TooBigError:
                if most == 1:
                    raise NotToldError("one value is too big for its answers") from None
                most //= 2
                continue
            if not told:
                raise NotToldError("its answer is empty")
            for number, (oid, value) in enumerate(told):
                column = left[number % len(left)]
                if column not in at:
                    continue
                if value is None or oid[: len(column)] != column:
                    del at[column]
                    continue
                if oid <= at[column]:
                    raise NotToldError("it tells its rows in a circle")
                at[column] = oid
                into.append((oid, value))
            if len(into) > table.most:
                raise NoEndError(f"it has no end: {table.most} values were read")

    async def _ask(
        self, command: Any, numbers: tuple[int, ...], oids: Sequence[Oid], value: Any = None
    ) -> list[tuple[Oid, Value | None]]:
        """One request and its answer; once more with a fresh engine where the switch was restarted in between."""
        for again in (False, True):
            await self._turn()
            failed, status, told = await self._send(command, numbers, oids, value)
            if failed is None:
                self._answered = True
                break
            # A switch that was started again counts its time anew; one that is asked by the old one may say so, or nothing.
            anew = type(failed).__name__ == "NotInTimeWindow" or (self._answered and self.key.version == "v3")
            if again or not anew:
                raise _problem(failed)
            await self._begin()
        if status:
            if status == _TOO_BIG:
                raise TooBigError("its answer would be too big")
            if status in _NO_ACCESS:
                raise ForbiddenError(f"it does not let {self.key.name} do that (error-status {status})")
            raise NotOfferedError(f"it answers with error-status {status} (RFC 3416)")
        return told

    async def _send(
        self, command: Any, numbers: tuple[int, ...], oids: Sequence[Oid], value: Any
    ) -> tuple[Any, int, list[tuple[Oid, Value | None]]]:
        from pysnmp.hlapi.v3arch.asyncio import ContextData, Null, ObjectIdentifier

        wanted = [(ObjectIdentifier(o), Null("") if value is None else value) for o in oids]
        try:
            failed, status, _, told = await command(
                self._engine, self._auth, self._target, ContextData(), *numbers, *wanted, lookupMib=False
            )
        except Exception as error:  # noqa: BLE001 - the package raises of its own for what it cannot decode
            raise DeviceError(f"its answer cannot be read: {type(error).__name__}") from None
        return failed, int(status or 0), [(tuple(o), _plain(v)) for o, v in told]

    async def _turn(self) -> None:
        loop = asyncio.get_running_loop()
        wait_s = self._next_s - loop.time()
        self._next_s = max(self._next_s, loop.time()) + self._interval_s
        if wait_s > 0:
            await asyncio.sleep(wait_s)


def _auth(key: SnmpKey) -> Any:
    from pysnmp.hlapi.v3arch import asyncio as package

    if key.version == "v2c":
        return package.CommunityData(key.secret, mpModel=1)
    digests = {
        "SHA-224": package.usmHMAC128SHA224AuthProtocol, "SHA-256": package.usmHMAC192SHA256AuthProtocol,
        "SHA-384": package.usmHMAC256SHA384AuthProtocol, "SHA-512": package.usmHMAC384SHA512AuthProtocol,
    }  # fmt: skip
    ciphers = {
        "AES-128": package.usmAesCfb128Protocol, "AES-192": package.usmAesBlumenthalCfb192Protocol,
        "AES-256": package.usmAesBlumenthalCfb256Protocol,
    }  # fmt: skip
    return package.UsmUserData(
        key.name, key.secret, key.privacy, authProtocol=digests[key.authentication], privProtocol=ciphers[key.cipher]
    )


def _problem(failed: Any) -> DeviceError:
    """What the package says went wrong (RFC 3414 section 3.2, usmStats)."""
    name = type(failed).__name__
    if name == "RequestTimedOut":
        return SilentError("no answer by SNMP")
    if name == "NotInTimeWindow":
        return LateError("its clock and count of restarts do not hold still")
    words = {
        "UnknownUserName": "it knows no such user",
        "UnknownSecurityName": "it knows no such user",
        "WrongDigest": "the authentication password is another, or the digest (SHA-2) is",
        "AuthenticationFailure": "the authentication password is another, or the digest (SHA-2) is",
        "UnsupportedSecurityLevel": "it does not take this user with authentication and privacy",
        "DecryptionError": "the privacy password is another, or the cipher (AES) is",
    }
    if name in words:
        return RefusedError(words[name])
    return DeviceError(f"its answer cannot be used ({name})")


def _plain(value: Any) -> Value | None:
    """A number, bytes or an object identifier; None for what it does not have, and the end."""
    from pyasn1.type import univ

    if isinstance(value, univ.Null):  # noSuchObject, noSuchInstance and endOfMibView are kinds of it
        return None
    if isinstance(value, univ.Integer):
        return int(value)
    if isinstance(value, univ.OctetString):
        return bytes(value.asOctets())
    if isinstance(value, univ.ObjectIdentifier):
        return tuple(value)
    return None
