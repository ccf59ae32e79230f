"""The vault: every credential of a site in one encrypted file.

Key from a passphrase with scrypt (RFC 7914); content sealed with AES-256-GCM (NIST SP 800-38D), the file's header as
associated data. A file that was changed, or a wrong passphrase, is told and nothing is read from it.

Several processes may use one vault. It is read, changed and written under a lock held for that moment only; a copy read
before is never written back. A password that is replaced is kept as a former one, so that none is ever lost.

A password that was made here is *pending* from before it is sent until it was seen to open its device; then it is *proved*.
A pending one may be sent again, since nobody else has it; a proved one is never made somebody's password a second time.
"""

from __future__ import annotations

import hashlib
import hmac
import re
import secrets
import struct
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from zentrale.errors import InputError, PassphraseChangedError
from zentrale.logbook.locks import vault_lock
from zentrale.logbook.vault_contents import Candidate, Contents, DeviceEntry, Former, SnmpEntry, from_json, to_json
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.snmp_key import SnmpKey
from zentrale.site.folder import cannot_read, clear_leftovers, write_atomically
from zentrale.site.identity import Identity

_MAGIC = b"ZENTRALE-VAULT-1"
_HEADER = struct.Struct("!16s16sBBB")  # magic, salt, log2 N, r, p
_NONCE_BYTES = 12
SCRYPT_LOG2_N, SCRYPT_R, SCRYPT_P = 16, 8, 1  # 64 MB and about 0.2 s: each guess costs the same
# What a file's header may ask for (RFC 7914 clauses 2 and 5): memory is 128 N r bytes, work that times p.
_MAX_MEMORY_BYTES, _MAX_WORK_BYTES = 1 << 30, 1 << 32
_LEAST_LOG2_N, _MOST_LOG2_N = 10, 32
SHORTEST_PASSPHRASE, SHORT_PASSPHRASE = 12, 16  # characters: refused below the first; below the second must be mixed


class Vault:
    """An open vault. Every change is written at once, whole or not at all.

    Raises PassphraseChangedError from wherever the file is read or written after another process changed the
    passphrase; `reopen` takes the new one.
    """

    def __init__(self, path: Path, header: bytes, key: bytes) -> None:
        self.path = path
        self._header = header
        self._key = key
        self._read: tuple[tuple[int, int, int], Contents] | None = None

    @classmethod
    def create(cls, path: Path, passphrase: str) -> Vault:
        """Raises InputError where there is one already."""
        path = path.resolve()
        header = _HEADER.pack(_MAGIC, secrets.token_bytes(16), SCRYPT_LOG2_N, SCRYPT_R, SCRYPT_P)
        vault = cls(path, header, _derive(header, passphrase))
        with vault_lock(path):
            if path.exists():
                raise InputError(f"{path}: the vault exists already", "use it, or move it away; nothing was changed")
            clear_leftovers(path)
            vault._write(Contents(key=secrets.token_bytes(32)))
        return vault

    @classmethod
    def open(cls, path: Path, passphrase: str) -> Vault:
        """Raises InputError for a missing, foreign or damaged file and for a wrong passphrase. A link is followed: what it
        leads to is what is locked and written, by all sites that share it.
        """
        path = path.resolve()
        data = _read_file(path)
        header = data[: _HEADER.size]
        vault = cls(path, header, _derive(header, passphrase))
        _unseal(path, data, vault._key)
        return vault

    def reopen(self, passphrase: str) -> None:
        """Take the passphrase that another process gave the vault. Raises InputError where it is the wrong one."""
        newer = Vault.open(self.path, passphrase)
        self._header, self._key, self._read = newer._header, newer._key, None

    @property
    def contents(self) -> Contents:
        """What the file holds now."""
        try:
            status = self.path.stat()
        except OSError as error:
            raise cannot_read(self.path, error) from None
        stamp = (status.st_ino, status.st_mtime_ns, status.st_size)
        if self._read is None or self._read[0] != stamp:
            self._read = (stamp, self._from_file())
        return self._read[1]

    def _from_file(self) -> Contents:
        data = _read_file(self.path)
        if data[: _HEADER.size] != self._header:
            raise PassphraseChangedError(
                "the vault's passphrase was changed by another process", "run the command again with the new one"
            )
        return from_json(_unseal(self.path, data, self._key))

    def _write(self, contents: Contents) -> None:
        nonce = secrets.token_bytes(_NONCE_BYTES)
        sealed = AESGCM(self._key).encrypt(nonce, to_json(contents), self._header)
        write_atomically(self.path, self._header + nonce + sealed, mode=0o600)

    def update(self, change: Callable[[Contents], Contents]) -> Contents:
        """Read, change and write under the lock. What is written is on the disk when this returns."""
        with vault_lock(self.path):
            clear_leftovers(self.path)
            before = self._from_file()
            after = change(before)
            if not after.key:  # a vault of an older version
                after = replace(after, key=secrets.token_bytes(32))
            if after != before:
                self._write(after)
            self._read = None
            return after

    def change_passphrase(self, passphrase: str) -> None:
        header = _HEADER.pack(_MAGIC, secrets.token_bytes(16), SCRYPT_LOG2_N, SCRYPT_R, SCRYPT_P)
        key = _derive(header, passphrase)  # before the lock: it takes its time
        with vault_lock(self.path):
            clear_leftovers(self.path)
            contents = self._from_file()
            self._header, self._key, self._read = header, key, None
            self._write(contents)

    def ready(self) -> Contents:
        """The contents, with a key for fingerprints: older vaults get one now."""
        contents = self.contents
        return contents if contents.key else self.update(lambda c: c)

    def add_candidate(self, candidate: Candidate) -> None:
        """A candidate of the same label replaces the older one."""
        self.add_candidates([candidate])

    def add_candidates(self, candidates: Sequence[Candidate]) -> None:
        """All of them, or none; each replaces an older one of the same label."""

        def change(contents: Contents) -> Contents:
            labels = {c.label for c in candidates}
            others = tuple(c for c in contents.candidates if c.label not in labels)
            return replace(contents, candidates=(*others, *candidates))

        self.update(change)

    def add_snmp(self, entry: SnmpEntry) -> None:
        """One of the same kind, name and use replaces the older one, and what that opened."""

        def change(contents: Contents) -> Contents:
            old = [e for e in contents.snmp if e.label == entry.label]
            return replace(_without_snmp(contents, old), snmp=(*(e for e in contents.snmp if e not in old), entry))

        self.update(change)

    def opens_switch(self, switch: str, key: SnmpKey, *, writes: bool) -> None:
        """The entry was seen to open it. Writes only where that is news."""
        if self.contents.opens.get((switch, writes)) != key:
            self.update(lambda c: replace(c, opens={**c.opens, (switch, writes): key}))

    def remove(self, label: str) -> bool:
        """Remove a candidate, a device's entry with its former ones, or what opens switches. Returns whether there was one."""
        found = False

        def change(contents: Contents) -> Contents:
            nonlocal found
            candidates = tuple(c for c in contents.candidates if c.label != label)
            devices = {name: e for name, e in contents.devices.items() if name != label}
            former = tuple(f for f in contents.former if f.name != label)
            accounts = {key: c for key, c in contents.accounts.items() if key[0] != label}
            pending = {key: at for key, at in contents.pending.items() if key[0] != label}
            some = [e for e in contents.snmp if e.key.name == label]
            snmp = tuple(e for e in contents.snmp if e not in some)
            kept = replace(
                _without_snmp(contents, some),
                snmp=snmp,
                candidates=candidates,
                devices=devices,
                former=former,
                accounts=accounts,
                pending=pending,
            )
            found = kept != contents
            return kept

        self.update(change)
        return found

    def set_device(
        self, name: str, credentials: Credentials, identity: Identity | None = None, *, pending: bool = False
    ) -> None:
        """Keep these credentials for `name`. `identity` None: that of its entry stays; `pending`: they are about to be sent."""

        def change(contents: Contents) -> Contents:
            old = contents.devices.get(name) or DeviceEntry(credentials)
            known = identity if identity is not None else old.identity
            same = identity is None or old.identity.same_device(known) is not False
            entry = replace(old, credentials=credentials, identity=known) if same else DeviceEntry(credentials, known)
            sent_s = time.time() if pending else None
            return contents.with_device(name, entry).with_pending(name, credentials.user, sent_s)

        self.update(change)

    def prove(self, name: str, credentials: Credentials, identity: Identity) -> None:
        """They were seen to open the device `name`, which told this of itself. Writes only where that is news."""

        def change(contents: Contents) -> Contents:
            entry = contents.devices.get(name)
            if entry is None or entry.credentials != credentials:
                return contents
            joined = identity.joined(replace(entry.identity, endpoint=identity.endpoint or entry.identity.endpoint))
            return contents.with_device(name, replace(entry, identity=joined)).with_pending(
                name, credentials.user, None
            )

        if change(contents := self.contents) != contents:
            self.update(change)

    def keeps_first(self, name: str, credentials: Credentials, longest: int) -> None:
        """The device opened by the first `longest` characters of the password that it was sent: these are its password."""

        def change(contents: Contents) -> Contents:
            entry = replace(contents.devices[name], credentials=credentials, longest=longest)
            return contents.with_device(name, entry).with_pending(name, credentials.user, None)

        self.update(change)

    def takes(self, name: str, seconds: float) -> None:
        """The device took so long until it took a new password: the next one is not tried sooner."""

        def change(contents: Contents) -> Contents:
            entry = contents.devices.get(name)
            if entry is None or entry.takes_s >= seconds:
                return contents
            return replace(contents, devices={**contents.devices, name: replace(entry, takes_s=seconds)})

        self.update(change)

    def prove_account(self, name: str, user: str) -> None:
        """Its password was seen to open."""
        if self.contents.sent_s(name, user) is not None:
            self.update(lambda c: c.with_pending(name, user, None))

    def rename_device(self, old: str, new: str) -> None:
        """The device of the plan that was called `old` is called `new`. What stood under `new` becomes a former one."""

        def change(contents: Contents) -> Contents:
            entry = contents.devices.get(old)
            if entry is None:
                return contents
            rest = {name: e for name, e in contents.devices.items() if name != old}
            former = tuple(replace(f, name=new) if f.name == old else f for f in contents.former)
            accounts = {(new if d == old else d, user): c for (d, user), c in contents.accounts.items()}
            pending = {(new if d == old else d, user): at for (d, user), at in contents.pending.items()}
            moved = replace(contents, devices=rest, former=former, accounts=accounts, pending=pending)
            return moved.with_device(new, entry)

        self.update(change)

    def pin_certificate(self, where: str, fingerprint: str) -> None:
        """What the server at host and port shows, where no entry is known to be its."""
        self.update(lambda c: replace(c, certificates={**c.certificates, where: fingerprint}))

    def keep_certificate(self, name: str, where: str, fingerprint: str) -> None:
        """What the device `name` shows at host and port `where`, into its entry: it follows the device. Writes what is new."""
        port = where.rpartition(":")[2]

        def change(contents: Contents) -> Contents:
            entry = contents.devices.get(name)
            if entry is None:
                return contents
            pinned = replace(entry, certificates={**entry.certificates, port: fingerprint})
            others = {w: f for w, f in contents.certificates.items() if w != where}
            return replace(contents, certificates=others, devices={**contents.devices, name: pinned})

        if change(contents := self.contents) != contents:
            self.update(change)

    def set_account(self, name: str, credentials: Credentials, *, pending: bool = False) -> None:
        """Keep a further account of the device `name`; an earlier password of it stays as a former one."""

        def change(contents: Contents) -> Contents:
            key = (name, credentials.user)
            old, former = contents.accounts.get(key), contents.former
            if old is not None and old != credentials:
                former = (*former, Former(name, DeviceEntry(old)))
            kept = replace(contents, accounts={**contents.accounts, key: credentials}, former=former)
            return kept.with_pending(name, credentials.user, time.time() if pending else None)

        self.update(change)

    def account(self, name: str, user: str) -> Credentials | None:
        return self.contents.accounts.get((name, user))

    def seal(self, content: bytes) -> bytes:
        """What only this vault opens again, also after its passphrase was changed: for files beside it."""
        nonce = secrets.token_bytes(_NONCE_BYTES)
        return nonce + AESGCM(self._file_key()).encrypt(nonce, content, _MAGIC)

    def unseal(self, sealed: bytes) -> bytes:
        """Raises ValueError where it was changed, or is of another vault."""
        try:
            return AESGCM(self._file_key()).decrypt(sealed[:_NONCE_BYTES], sealed[_NONCE_BYTES:], _MAGIC)
        except InvalidTag:
            raise ValueError("changed, or of another vault") from None

    def _file_key(self) -> bytes:
        return hmac.new(self.ready().key, b"files beside the vault", hashlib.sha256).digest()

    def device(self, name: str) -> Credentials | None:
        entry = self.contents.devices.get(name)
        return entry.credentials if entry else None


def _without_snmp(contents: Contents, entries: Sequence[SnmpEntry]) -> Contents:
    """Without what these opened."""
    gone = {(e.key, e.writes) for e in entries}
    opens = {(s, w): key for (s, w), key in contents.opens.items() if (key, w) not in gone}
    return replace(contents, opens=opens)


def weakness(passphrase: str) -> str:
    """Why a passphrase is too easily guessed; empty where it is not. A word is a run of letters and digits."""
    if len(passphrase) < SHORTEST_PASSPHRASE:
        return f"it has {len(passphrase)} characters; at least {SHORTEST_PASSPHRASE} are wanted"
    if len(passphrase) < SHORT_PASSPHRASE:
        kinds = (str.islower, str.isupper, str.isdigit, lambda c: not c.isalnum())
        if sum(any(kind(c) for c in passphrase) for kind in kinds) < 2:
            return f"it is of one kind of character, and under {SHORT_PASSPHRASE} long"
        if len(re.findall(r"[^\W_]+", passphrase)) < 2:
            return f"it is one word, and under {SHORT_PASSPHRASE} characters long"
    return ""


def _derive(header: bytes, passphrase: str) -> bytes:
    _, salt, log2_n, r, p = _HEADER.unpack(header)
    memory_bytes = (128 * r << log2_n) if _LEAST_LOG2_N <= log2_n <= _MOST_LOG2_N else 0
    if not (0 < memory_bytes <= _MAX_MEMORY_BYTES and 0 < memory_bytes * p <= _MAX_WORK_BYTES):
        raise InputError("the vault's header asks for impossible work", "restore it from a copy")
    return Scrypt(salt=salt, length=32, n=1 << log2_n, r=r, p=p).derive(passphrase.encode())


def _read_file(path: Path) -> bytes:
    try:
        data = path.read_bytes()
    except FileNotFoundError:
        raise InputError(f"{path}: there is no vault", "make one with `zentrale vault init`") from None
    except OSError as error:
        raise cannot_read(path, error) from None
    if len(data) < _HEADER.size + _NONCE_BYTES + 16 or not data.startswith(_MAGIC):
        raise InputError(f"{path}: not a vault of this program, or cut short", "restore it from a copy")
    return data


def _unseal(path: Path, data: bytes, key: bytes) -> bytes:
    nonce, sealed = data[_HEADER.size :][:_NONCE_BYTES], data[_HEADER.size + _NONCE_BYTES :]
    try:
        return AESGCM(key).decrypt(nonce, sealed, data[: _HEADER.size])
    except InvalidTag:
        raise InputError(f"{path}: wrong passphrase, or the file was changed", "try again with the right one") from None
