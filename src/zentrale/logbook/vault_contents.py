"""What a vault holds: candidates, the credentials of devices and of further accounts, certificates; and all of it as JSON."""

from __future__ import annotations

import hashlib
import hmac
import json
from dataclasses import asdict, dataclass, field, fields, replace
from typing import Any

from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.snmp_key import SnmpKey
from zentrale.site.identity import Identity


@dataclass(frozen=True)
class Candidate:
    """A password that may work on devices that are found. `factory_of` names the maker whose default it is."""

    credentials: Credentials
    label: str
    factory_of: str = ""


@dataclass(frozen=True)
class DeviceEntry:
    """The credentials of one device, and what it said of itself when they were kept: they follow the device.

    longest:      how many characters of a password it keeps, where it was seen to cut them [characters]; 0: not seen
    certificates: SHA-256 of the certificate it was first seen with, by port
    takes_s:      how long it took once until it took a new password, where it refused it at first [s]
    """

    credentials: Credentials
    identity: Identity = field(default_factory=Identity)
    longest: int = 0
    certificates: dict[str, str] = field(default_factory=dict)
    takes_s: float = 0.0


@dataclass(frozen=True)
class Former:
    """Credentials that were once a device's: an earlier password, or those of a device that was replaced."""

    name: str
    entry: DeviceEntry


@dataclass(frozen=True)
class SnmpEntry:
    """What may open switches: to read their tables, or (`writes`) to switch their ports as well."""

    key: SnmpKey
    writes: bool = False

    @property
    def label(self) -> tuple[str, str, bool]:
        """By which it is known: one to read and one to switch may have the same name."""
        return self.key.version, self.key.name, self.writes


@dataclass(frozen=True)
class Contents:
    """devices:      by the name in the plan under which each was last known
    accounts:     further accounts, by device and user: those of people, and the one that recorders watch with
    certificates: SHA-256 of the certificate each server was first seen with, by its host and port, where no entry has it
    key:          for fingerprints of credentials in the logbook, which nobody can turn back without the vault
    pending:      when each password that is not yet seen to open was sent [s since 1970], by device and user
    snmp, opens:  what may open switches; and which of them did, by switch and whether it was to switch ports
    """

    candidates: tuple[Candidate, ...] = ()
    devices: dict[str, DeviceEntry] = field(default_factory=dict)
    former: tuple[Former, ...] = ()
    certificates: dict[str, str] = field(default_factory=dict)
    key: bytes = field(default=b"", repr=False)
    accounts: dict[tuple[str, str], Credentials] = field(default_factory=dict)
    pending: dict[tuple[str, str], float] = field(default_factory=dict)
    snmp: tuple[SnmpEntry, ...] = ()
    opens: dict[tuple[str, bool], SnmpKey] = field(default_factory=dict)

    @property
    def secrets(self) -> set[str]:
        """Every password in it, for whoever must never say one."""
        found = {c.credentials.password for c in self.candidates} | {c.password for c in self.accounts.values()}
        found |= {e.credentials.password for e in self.devices.values()}
        found |= {f.entry.credentials.password for f in self.former}
        keys = [*(e.key for e in self.snmp), *self.opens.values()]
        return found | {secret for key in keys for secret in key.secrets}

    def fingerprint(self, credentials: Credentials) -> str:
        """What the logbook may know of credentials: enough to tell that they are the same as before."""
        content = f"{credentials.user}\0{credentials.password}".encode()
        return hmac.new(self.key, content, hashlib.sha256).hexdigest()[:24]

    def names_of(self, identity: Identity) -> list[str]:
        """Names whose entry belongs to this device by its own identity."""
        return [name for name, entry in self.devices.items() if entry.identity.same_device(identity)]

    def with_device(self, name: str, entry: DeviceEntry) -> Contents:
        """With these credentials for `name`; other ones kept before stay as former ones."""
        old = self.devices.get(name)
        former = self.former
        if old is not None and old.credentials != entry.credentials:
            former = (*former, Former(name, old))
        return replace(self, devices={**self.devices, name: entry}, former=former)

    def sent_s(self, name: str, user: str) -> float | None:
        """When the password of this account was sent [s since 1970], where it was not yet seen to open; else None."""
        return self.pending.get((name, user))

    def with_pending(self, name: str, user: str, sent_s: float | None) -> Contents:
        others = {key: at for key, at in self.pending.items() if key != (name, user)}
        return replace(self, pending=others if sent_s is None else {**others, (name, user): sent_s})


def _entry_json(entry: DeviceEntry) -> dict[str, Any]:
    identity = entry.identity
    return {
        "user": entry.credentials.user, "password": entry.credentials.password,
        "macs": sorted(identity.macs), "serial": identity.serial, "endpoint": identity.endpoint,
        "longest": entry.longest, "certificates": entry.certificates, "takes_s": entry.takes_s,
    }  # fmt: skip


def _entry(raw: dict[str, Any]) -> DeviceEntry:
    """From its JSON; entries of the first version hold a user and a password only."""
    identity = Identity(frozenset(raw.get("macs", ())), raw.get("serial", ""), raw.get("endpoint", ""))
    return DeviceEntry(
        Credentials(raw["user"], raw["password"]),
        identity,
        raw.get("longest", 0),
        dict(raw.get("certificates", {})),
        raw.get("takes_s", 0.0),
    )


def to_json(contents: Contents) -> bytes:
    """As the vault's file holds it, before it is sealed."""
    return json.dumps({
        "candidates": [
            {"user": c.credentials.user, "password": c.credentials.password, "label": c.label, "factory_of": c.factory_of}
            for c in contents.candidates
        ],
        "devices": {name: _entry_json(e) for name, e in contents.devices.items()},
        "former": [{"name": f.name, **_entry_json(f.entry)} for f in contents.former],
        "certificates": contents.certificates,
        "accounts": [
            {"device": d, "user": c.user, "password": c.password} for (d, _), c in contents.accounts.items()
        ],
        "key": contents.key.hex(),
        "pending": [{"device": d, "user": u, "sent_s": at} for (d, u), at in contents.pending.items()],
        "snmp": [{**asdict(e.key), "writes": e.writes} for e in contents.snmp],
        "opens": [{**asdict(key), "switch": s, "writes": w} for (s, w), key in contents.opens.items()],
    }).encode()  # fmt: skip


def from_json(data: bytes) -> Contents:
    """From what `to_json` wrote, or an older version; what that had not is empty."""
    raw = json.loads(data)
    return Contents(
        tuple(Candidate(Credentials(c["user"], c["password"]), c["label"], c["factory_of"]) for c in raw["candidates"]),
        {name: _entry(e) for name, e in raw["devices"].items()},
        tuple(Former(f["name"], _entry(f)) for f in raw.get("former", ())),
        dict(raw.get("certificates", {})),
        bytes.fromhex(raw.get("key", "")),
        {(a["device"], a["user"]): Credentials(a["user"], a["password"]) for a in raw.get("accounts", ())},
        {(p["device"], p["user"]): float(p["sent_s"]) for p in raw.get("pending", ())},
        tuple(SnmpEntry(_snmp_key(e), e["writes"]) for e in raw.get("snmp", ())),
        {(o["switch"], o["writes"]): _snmp_key(o) for o in raw.get("opens", ())},
    )


def _snmp_key(raw: dict[str, Any]) -> SnmpKey:
    return SnmpKey(**{f.name: raw[f.name] for f in fields(SnmpKey)})
