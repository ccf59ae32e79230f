"""HTTP authentication for RTSP and HTTP: Digest with MD5 and SHA-256 (RFC 7616, RFC 2617), and Basic (RFC 7617).

Both roles: `answer` for a client, `DigestVerifier` for a server. Nonces are handed in, so that nothing here needs
a clock or chance.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
from collections.abc import Iterable
from dataclasses import dataclass, field

from zentrale.errors import RemoteProtocolError

_ALGORITHMS = {"MD5": "md5", "SHA-256": "sha256"}
_PARAMETER = re.compile(r'([a-zA-Z][a-zA-Z0-9_\-]*)\s*=\s*(?:"((?:[^"\\]|\\.)*)"|([^\s,"]+))')
_SCHEME = re.compile(r"(?:^|,)\s*(Digest|Basic)\b", re.IGNORECASE)
MAX_HEADER = 8192


@dataclass(frozen=True)
class Credentials:
    """A user and a password. The password never shows in a repr, a log or a traceback."""

    user: str
    password: str = field(repr=False)


_USERINFO = re.compile(r"(?<=://)[^/\s\"'<>]*@")


def without_userinfo(text: str) -> str:
    """`text` with user and password taken out of every address in it: devices tell addresses back as they got them,
    in answers and in error messages.
    """
    return _USERINFO.sub("", text)


@dataclass(frozen=True)
class Challenge:
    """One offer of a WWW-Authenticate header."""

    scheme: str
    realm: str = ""
    nonce: str = ""
    algorithm: str = "MD5"
    qop: str = ""
    opaque: str | None = None
    stale: bool = False

    def strength(self) -> int:
        if self.scheme == "basic":
            return 0
        return 2 if self.algorithm == "SHA-256" else 1

    def header(self) -> str:
        """The value of the WWW-Authenticate header that makes this offer."""
        if self.scheme == "basic":
            return f'Basic realm="{self.realm}"'
        text = f'Digest realm="{self.realm}", nonce="{self.nonce}", algorithm={self.algorithm}'
        return text + (f', qop="{self.qop}"' if self.qop else "") + (", stale=true" if self.stale else "")


def parse_parameters(text: str) -> dict[str, str]:
    return {
        m[1].lower(): m[3] if m[3] is not None else re.sub(r"\\(.)", r"\1", m[2]) for m in _PARAMETER.finditer(text)
    }


def parse_challenges(headers: Iterable[str]) -> list[Challenge]:
    """All offers in the WWW-Authenticate `headers` that can be answered, strongest first."""
    offers = []
    for header in headers:
        if len(header) > MAX_HEADER:
            raise RemoteProtocolError("authentication header of more than 8192 characters")
        starts = list(_SCHEME.finditer(header))
        for index, match in enumerate(starts):
            end = starts[index + 1].start() if index + 1 < len(starts) else len(header)
            fields = parse_parameters(header[match.end() : end])
            algorithm = fields.get("algorithm", "MD5").upper()
            scheme = match[1].lower()
            if scheme == "digest" and (algorithm not in _ALGORITHMS or "nonce" not in fields):
                continue
            qops = [q.strip() for q in fields.get("qop", "").split(",")]
            offers.append(
                Challenge(
                    scheme,
                    fields.get("realm", ""),
                    fields.get("nonce", ""),
                    algorithm,
                    "auth" if "auth" in qops else "",
                    fields.get("opaque"),
                    fields.get("stale", "").lower() == "true",
                )
            )
    return sorted(offers, key=Challenge.strength, reverse=True)


def _digest(challenge: Challenge, credentials: Credentials, method: str, uri: str, count: str, cnonce: str) -> str:
    def h(text: str) -> str:
        return hashlib.new(_ALGORITHMS[challenge.algorithm], text.encode()).hexdigest()

    secret = h(f"{credentials.user}:{challenge.realm}:{credentials.password}")
    request = h(f"{method}:{uri}")
    if challenge.qop:
        return h(f"{secret}:{challenge.nonce}:{count}:{cnonce}:{challenge.qop}:{request}")
    return h(f"{secret}:{challenge.nonce}:{request}")  # RFC 2617 clause 3.2.2.1 without qop, usual in RTSP


def answer(
    challenge: Challenge, credentials: Credentials, method: str, uri: str, cnonce: str, request_count: int = 1
) -> str:
    """The Authorization header value that answers `challenge` for one request."""
    if challenge.scheme == "basic":
        pair = f"{credentials.user}:{credentials.password}".encode()
        return "Basic " + base64.b64encode(pair).decode()
    count = f"{request_count:08x}"
    response = _digest(challenge, credentials, method, uri, count, cnonce)
    user = credentials.user.replace("\\", "\\\\").replace('"', '\\"')
    text = (
        f'Digest username="{user}", realm="{challenge.realm}", nonce="{challenge.nonce}", uri="{uri}", '
        f'response="{response}", algorithm={challenge.algorithm}'
    )
    if challenge.qop:
        text += f', qop={challenge.qop}, nc={count}, cnonce="{cnonce}"'
    if challenge.opaque is not None:
        text += f', opaque="{challenge.opaque}"'
    return text


@dataclass
class DigestVerifier:
    """The server's side: offers challenges and checks the answers against known accounts."""

    realm: str
    nonce: str
    algorithms: tuple[str, ...] = ("MD5",)
    qop: str = "auth"

    def challenges(self) -> list[str]:
        return [Challenge("digest", self.realm, self.nonce, a, self.qop).header() for a in self.algorithms]

    def user_of(self, authorization: str, method: str, accounts: Iterable[Credentials]) -> str | None:
        """The user whose password the header proves for this request; None where it proves none."""
        scheme, _, rest = authorization.partition(" ")
        fields = parse_parameters(rest) if scheme.lower() == "digest" else {}
        algorithm = fields.get("algorithm", "MD5").upper()
        if fields.get("nonce") != self.nonce or algorithm not in self.algorithms:
            return None
        challenge = Challenge("digest", self.realm, self.nonce, algorithm, fields.get("qop", ""))
        for account in accounts:
            if account.user == fields.get("username"):
                wanted = _digest(
                    challenge,
                    account,
                    method,
                    fields.get("uri", ""),
                    fields.get("nc", ""),
                    fields.get("cnonce", ""),
                )
                if hmac.compare_digest(wanted.encode(), fields.get("response", "").lower().encode("utf-8", "replace")):
                    return account.user
        return None
