"""The vault: every credential of a site in one encrypted file.

Key from a passphrase with scrypt (RFC 7914); content sealed with AES-256-GCM (NIST SP 800-38D), the file's header as
associated data. A file that was changed, or a wrong passphrase, is told and nothing is read from it.
"""

from __future__ import annotations

import json
import secrets
import string
import struct
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from zentrale.errors import InputError
from zentrale.protocols.http_auth import Credentials
from zentrale.site.folder import write_atomically

_MAGIC = b"ZENTRALE-VAULT-1"
_HEADER = struct.Struct("!16s16sBBB")  # magic, salt, log2 N, r, p
_NONCE_BYTES = 12
SCRYPT_LOG2_N, SCRYPT_R, SCRYPT_P = 16, 8, 1  # 64 MB and about 0.2 s: each guess costs the same
_MAX_LOG2_N = 20
PASSWORD_LENGTH = 16
# Without characters that look alike on paper, and without those that some devices refuse.
_LETTERS = "".join(c for c in string.ascii_letters if c not in "IlOo")
_DIGITS, _SIGNS = "23456789", "-_.+="


@dataclass(frozen=True)
class Candidate:
    """A password that may work on devices that are found. `factory_of` names the maker whose default it is."""

    credentials: Credentials
    label: str
    factory_of: str = ""


@dataclass(frozen=True)
class Contents:
    candidates: tuple[Candidate, ...] = ()
    devices: dict[str, Credentials] = field(default_factory=dict)  # by the device's name in the plan


class Vault:
    """An open vault. Every change is written at once, whole or not at all."""

    def __init__(self, path: Path, header: bytes, key: bytes, contents: Contents) -> None:
        self.path = path
        self._header = header
        self._key = key
        self.contents = contents

    @classmethod
    def create(cls, path: Path, passphrase: str) -> Vault:
        """Raises InputError where there is one already."""
        if path.exists():
            raise InputError(f"{path}: the vault exists already", "use it, or move it away; nothing was changed")
        header = _HEADER.pack(_MAGIC, secrets.token_bytes(16), SCRYPT_LOG2_N, SCRYPT_R, SCRYPT_P)
        vault = cls(path, header, _derive(header, passphrase), Contents())
        vault._write()
        return vault

    @classmethod
    def open(cls, path: Path, passphrase: str) -> Vault:
        """Raises InputError for a missing, foreign or damaged file and for a wrong passphrase."""
        try:
            data = path.read_bytes()
        except FileNotFoundError:
            raise InputError(f"{path}: there is no vault", "make one with `zentrale vault init`") from None
        except OSError as error:
            raise InputError(f"{path}: cannot be read: {error.strerror}", "see the cause named") from None
        header = data[: _HEADER.size]
        if len(data) < _HEADER.size + _NONCE_BYTES + 16 or not header.startswith(_MAGIC):
            raise InputError(f"{path}: not a vault of this program, or cut short", "restore it from a copy")
        key = _derive(header, passphrase)
        nonce, sealed = data[_HEADER.size :][:_NONCE_BYTES], data[_HEADER.size + _NONCE_BYTES :]
        try:
            plain = AESGCM(key).decrypt(nonce, sealed, header)
        except InvalidTag:
            raise InputError(
                f"{path}: wrong passphrase, or the file was changed", "try again with the right one"
            ) from None
        return cls(path, header, key, _from_json(plain))

    def _write(self) -> None:
        nonce = secrets.token_bytes(_NONCE_BYTES)
        sealed = AESGCM(self._key).encrypt(nonce, _to_json(self.contents), self._header)
        write_atomically(self.path, self._header + nonce + sealed, mode=0o600)

    def change_passphrase(self, passphrase: str) -> None:
        self._header = _HEADER.pack(_MAGIC, secrets.token_bytes(16), SCRYPT_LOG2_N, SCRYPT_R, SCRYPT_P)
        self._key = _derive(self._header, passphrase)
        self._write()

    def add_candidate(self, candidate: Candidate) -> None:
        """A candidate of the same label replaces the older one."""
        others = tuple(c for c in self.contents.candidates if c.label != candidate.label)
        self.contents = replace(self.contents, candidates=(*others, candidate))
        self._write()

    def remove(self, label: str) -> bool:
        """Remove a candidate or a device's entry. Returns whether there was one."""
        candidates = tuple(c for c in self.contents.candidates if c.label != label)
        devices = {name: c for name, c in self.contents.devices.items() if name != label}
        changed = len(candidates) < len(self.contents.candidates) or len(devices) < len(self.contents.devices)
        if changed:
            self.contents = Contents(candidates, devices)
            self._write()
        return changed

    def set_device(self, name: str, credentials: Credentials) -> None:
        self.contents = replace(self.contents, devices={**self.contents.devices, name: credentials})
        self._write()

    def device(self, name: str) -> Credentials | None:
        return self.contents.devices.get(name)


def generate_password(choose: Callable[[str], str] = secrets.choice) -> str:
    """A password that the rules of most devices accept: letters of both cases, digits and a sign."""
    while True:
        password = "".join(choose(_LETTERS + _DIGITS + _SIGNS) for _ in range(PASSWORD_LENGTH))
        kinds = (str.islower, str.isupper, str.isdigit, lambda c: c in _SIGNS)
        if all(any(kind(c) for c in password) for kind in kinds) and password[0] in _LETTERS:
            return password


def _derive(header: bytes, passphrase: str) -> bytes:
    _, salt, log2_n, r, p = _HEADER.unpack(header)
    if not (10 <= log2_n <= _MAX_LOG2_N and 1 <= r <= 32 and 1 <= p <= 16):
        raise InputError("the vault's header asks for impossible work", "restore it from a copy")
    return Scrypt(salt=salt, length=32, n=1 << log2_n, r=r, p=p).derive(passphrase.encode())


def _pair(credentials: Credentials) -> dict[str, str]:
    return {"user": credentials.user, "password": credentials.password}


def _to_json(contents: Contents) -> bytes:
    return json.dumps({
        "candidates": [
            {**_pair(c.credentials), "label": c.label, "factory_of": c.factory_of} for c in contents.candidates
        ],
        "devices": {name: _pair(c) for name, c in contents.devices.items()},
    }).encode()  # fmt: skip


def _from_json(data: bytes) -> Contents:
    raw = json.loads(data)
    return Contents(
        tuple(Candidate(Credentials(c["user"], c["password"]), c["label"], c["factory_of"]) for c in raw["candidates"]),
        {name: Credentials(c["user"], c["password"]) for name, c in raw["devices"].items()},
    )
