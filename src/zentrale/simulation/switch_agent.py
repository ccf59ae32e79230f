"""An SNMP agent for each stand-in switch. The messages are pysnmp's, which is loaded only where a scenario has switches."""

from __future__ import annotations

import asyncio
import bisect
import time
from collections.abc import Sequence
from typing import Any

from zentrale.simulation.switch_scenario import Switch
from zentrale.simulation.switch_tables import ON, Around, build, power_rows

_FRESH_S = 0.5  # tables are made anew after this
_USM, _V2C = 3, 2


class SwitchAgent:
    """Raises OSError from `start` where its address or port is not to be had."""

    def __init__(self, switch: Switch, around: Around) -> None:
        self.switch, self.around = switch, around
        self.requests = 0
        self._made_s = 0.0
        self._told: list[tuple[Any, Any]] = []
        self._keys: list[tuple[int, ...]] = []
        self._engine: Any = None

    async def start(self) -> None:
        from pysnmp.carrier.asyncio.dgram import udp
        from pysnmp.entity import config, engine
        from pysnmp.entity.rfc3413 import cmdrsp, context

        # The package binds later and tells nobody where it cannot.
        loop = asyncio.get_running_loop()
        probe, _ = await loop.create_datagram_endpoint(
            asyncio.DatagramProtocol, local_addr=(self.switch.address, self.switch.snmp_port)
        )
        probe.close()
        await asyncio.sleep(0)
        self._engine = engine.SnmpEngine()
        transport = udp.UdpTransport().open_server_mode((self.switch.address, self.switch.snmp_port))
        config.add_transport(self._engine, udp.DOMAIN_NAME, transport)
        for community in self.switch.communities:
            config.add_v1_system(self._engine, community.name, community.name)
            config.add_vacm_user(self._engine, _V2C, community.name, "noAuthNoPriv", (1,), (1,))
        for user in self.switch.users:
            config.add_v3_user(
                self._engine, user.user, config.USM_AUTH_HMAC192_SHA256, user.password, config.USM_PRIV_CFB128_AES,
                user.privacy,
            )  # fmt: skip
            config.add_vacm_user(self._engine, _USM, user.user, "authPriv", (1,), (1,))
        own = context.SnmpContext(self._engine)
        own.unregister_context_name(own.contextEngineId and b"")
        own.register_context_name(b"", _controller(self))
        for responder in ("GetCommandResponder", "SetCommandResponder", "NextCommandResponder", "BulkCommandResponder"):
            getattr(cmdrsp, responder)(self._engine, own)

    def stop(self) -> None:
        if self._engine is not None:
            self._engine.close_dispatcher()
            self._engine = None

    def _fresh(self) -> None:
        if time.monotonic() - self._made_s > _FRESH_S:
            self._told = build(self.switch, self.around)
            self._keys = [oid for oid, _ in self._told]
            self._made_s = time.monotonic()

    def silent(self) -> bool:
        """Whether it answers no more, as a fault of its own."""
        self.requests += 1
        return bool(self.switch.silent_after) and self.requests > self.switch.silent_after

    def value(self, oid: tuple[int, ...]) -> Any:
        self._fresh()
        at = bisect.bisect_left(self._keys, oid)
        return self._told[at][1] if at < len(self._keys) and self._keys[at] == oid else None

    def after(self, oid: tuple[int, ...]) -> tuple[tuple[int, ...], Any] | None:
        self._fresh()
        at = bisect.bisect_right(self._keys, oid)
        return self._told[at] if at < len(self._told) else None

    def may_write(self, name: str) -> bool:
        """Whether the user, or the community, of this name may switch ports."""
        named = {u.user: u.writes for u in self.switch.users} | {c.name: c.writes for c in self.switch.communities}
        return named.get(name, False)

    def switch_power(self, oid: tuple[int, ...], number: int) -> bool:
        """Returns whether it is an object that may be set so."""
        port = power_rows(self.switch).get(oid)
        if port is None or number not in (1, 2):
            return False
        if not self.switch.ignores_power:
            self.around.power.set(self.switch.name, port, on=number == ON)
        self._made_s = 0.0
        return True


def _controller(agent: SwitchAgent) -> Any:
    from pysnmp.proto import error as proto_error
    from pysnmp.proto import rfc1902, rfc1905
    from pysnmp.smi import error, instrum

    def typed(value: Any) -> Any:
        if isinstance(value, int):
            return rfc1902.Integer32(value) if value < 2**31 else rfc1902.Gauge32(value)
        return rfc1902.OctetString(value) if isinstance(value, bytes) else rfc1902.ObjectIdentifier(value)

    class Controller(instrum.AbstractMibInstrumController):  # type: ignore[misc]
        def read_variables(self, *pairs: Any, **context: Any) -> Sequence[Any]:
            self._hush()
            found = [(oid, agent.value(tuple(oid))) for oid, _ in pairs]
            return [(oid, rfc1905.noSuchInstance if value is None else typed(value)) for oid, value in found]

        def read_next_variables(self, *pairs: Any, **context: Any) -> Sequence[Any]:
            self._hush()
            told = []
            for oid, _ in pairs:
                found = agent.after(tuple(oid))
                told.append(
                    (oid, rfc1905.endOfMibView)
                    if found is None
                    else (rfc1902.ObjectIdentifier(found[0]), typed(found[1]))
                )
            return told

        def write_variables(self, *pairs: Any, **context: Any) -> Sequence[Any]:
            asked = context["snmpEngine"].observer.get_execution_context("rfc3412.receiveMessage:request")
            for oid, value in pairs:
                if not agent.may_write(str(asked["securityName"])):
                    raise error.NoAccessError(name=oid, idx=0)
                if not agent.switch_power(tuple(oid), int(value)):
                    raise error.NotWritableError(name=oid, idx=0)
            return pairs

        def _hush(self) -> None:
            if agent.silent():
                raise proto_error.StatusInformation(errorIndication="silent")

    return Controller()
