"""What opens a switch's tables: a user with two passwords (SNMPv3, RFC 3414), or a community, which goes in clear (RFC 3584)."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

Version = Literal["v2c", "v3"]
AUTHENTICATIONS = ("SHA-256", "SHA-224", "SHA-384", "SHA-512")  # RFC 7860
CIPHERS = ("AES-128", "AES-192", "AES-256")  # RFC 3826; the longer keys as most switches localise them
SHORTEST = 8  # characters of a password, RFC 3414 section 11.2


@dataclass(frozen=True)
class SnmpKey:
    """`name`: the user, or what people call the community; `secret`: the authentication password, or the community itself."""

    version: Version
    name: str
    secret: str = field(repr=False)
    privacy: str = field(default="", repr=False)
    authentication: str = AUTHENTICATIONS[0]
    cipher: str = CIPHERS[0]

    @property
    def secrets(self) -> tuple[str, ...]:
        return tuple(s for s in (self.secret, self.privacy) if s)
