"""HTTP authentication for RTSP and HTTP: Digest (RFC 7616, RFC 2617) and Basic (RFC 7617). The one place for both.

Both roles: `Answering` for a client, `DigestVerifier` for a server. Nonces are handed in, so that nothing here needs
a clock or chance.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from zentrale.errors import RemoteProtocolError
from zentrale.words import clean

DIGEST, BASIC = "digest", "basic"
_ALGORITHMS = {
    "MD5": "md5", "MD5-SESS": "md5", "SHA-256": "sha256", "SHA-256-SESS": "sha256",
    "SHA-512-256": "sha512_256", "SHA-512-256-SESS": "sha512_256",
}  # fmt: skip
_SEPARATORS = re.compile(r"[\s,]+")
_TOKEN = re.compile(r"[!#$%&'*+\-.^_`|~0-9A-Za-z]+")  # RFC 9110 clause 5.6.2
_EQUALS = re.compile(r"\s*=\s*")
_QUOTED = re.compile(r'"((?:[^"\\]|\\.)*)(?:"|$)', re.DOTALL)  # one that does not end goes to the end
_BARE = re.compile(r'[^\s,"]*')
_ESCAPE = re.compile(r"\\(.)", re.DOTALL)
MAX_HEADER = 8192
MAX_CHALLENGES = 16
_MAX_REPEATS = 3  # of one request: for the first challenge, a stale nonce, and one more


@dataclass(frozen=True)
class Credentials:
    """A user and a password. The password never shows in a repr, a log or a traceback."""

    user: str
    password: str = field(repr=False)


def wire(text: str) -> str:
    """`text` as these headers hold it: a character for each byte of its UTF-8. A realm is taken and given back so, byte by byte,
    since nobody says in which characters a server wrote it (RFC 7616 clause 3.4).
    """
    return text if text.isascii() else text.encode("utf-8").decode("latin-1")


def wire_bytes(text: str) -> bytes:
    """The bytes of a header's text: those that it was made of, see `wire`; else its UTF-8."""
    try:
        return text.encode("latin-1")
    except UnicodeEncodeError:
        return text.encode("utf-8", "replace")


_USERINFO = re.compile(r"(?<=://)[^/\s\"'<>]*@")


def without_userinfo(text: str) -> str:
    """`text` with user and password taken out of every address in it: devices tell addresses back as they got them,
    in answers and in error messages.
    """
    return _USERINFO.sub("", text)


@dataclass(frozen=True)
class Challenge:
    """One offer of a WWW-Authenticate header. `qop` is auth, auth-int, or empty where the server names none."""

    scheme: str
    realm: str = ""
    nonce: str = ""
    algorithm: str = "MD5"
    qop: str = ""
    opaque: str | None = None
    stale: bool = False

    def strength(self) -> int:
        if self.scheme == BASIC:
            return 0
        return 2 if self.algorithm.startswith("SHA") else 1

    def header(self) -> str:
        """The value of the WWW-Authenticate header that makes this offer."""
        if self.scheme == BASIC:
            return f'Basic realm="{self.realm}"'
        text = f'Digest realm="{self.realm}", nonce="{self.nonce}", algorithm={self.algorithm}'
        return text + (f', qop="{self.qop}"' if self.qop else "") + (", stale=true" if self.stale else "")


@dataclass(frozen=True)
class Offers:
    """What a server asks for: the offers that can be answered, strongest first, and what the others were."""

    challenges: tuple[Challenge, ...] = ()
    unknown: tuple[str, ...] = ()

    @property
    def digest(self) -> bool:
        return any(c.scheme == DIGEST for c in self.challenges)


def parse_parameters(text: str) -> dict[str, str]:
    """The parameters behind a scheme, by name in small letters."""
    return next((fields for _, fields in _split(f"x {text}")), {})


def _split(header: str) -> Iterator[tuple[str, dict[str, str]]]:
    """The challenges in one header (RFC 9110 clause 11.6.1): scheme and parameters. One pass, whatever is sent."""
    scheme, fields, at = "", dict[str, str](), 0
    while at < len(header):
        separators = _SEPARATORS.match(header, at)
        at = separators.end() if separators else at
        name = _TOKEN.match(header, at)
        if name is None:
            at += 1  # nothing that has a meaning here
            continue
        at = name.end()
        equals = _EQUALS.match(header, at)
        if equals is None:
            if scheme:
                yield scheme, fields
            scheme, fields = name[0].lower(), {}
            continue
        value = _QUOTED.match(header, equals.end()) or _BARE.match(header, equals.end())
        assert value is not None  # _BARE takes nothing, too
        text = _ESCAPE.sub(r"\1", value[1]) if value.re is _QUOTED else value[0]
        fields.setdefault(name[0].lower(), text)
        at = value.end()
    if scheme:
        yield scheme, fields


def parse_offers(headers: Iterable[str]) -> Offers:
    """What the WWW-Authenticate `headers` ask for. Raises RemoteProtocolError on a header beyond all measure."""
    offers: list[Challenge] = []
    unknown: list[str] = []
    for header in list(headers)[:MAX_CHALLENGES]:
        if len(header) > MAX_HEADER:
            raise RemoteProtocolError(f"authentication header of more than {MAX_HEADER} characters")
        for scheme, fields in _split(header):
            if len(offers) + len(unknown) >= MAX_CHALLENGES:
                break
            challenge = _challenge(scheme, fields)
            if isinstance(challenge, Challenge):
                offers.append(challenge)
            else:
                unknown.append(challenge)
    return Offers(tuple(sorted(offers, key=Challenge.strength, reverse=True)), tuple(unknown))


def _challenge(scheme: str, fields: dict[str, str]) -> Challenge | str:
    """The offer, or in words what it is where it cannot be answered (RFC 7616 clause 3.3: it is then passed over)."""
    if scheme == BASIC:
        return Challenge(BASIC, fields.get("realm", ""))
    if scheme != DIGEST:
        return clean(scheme, 20)
    algorithm = fields.get("algorithm", "MD5").upper()
    if algorithm not in _ALGORITHMS:
        return f"digest with algorithm {clean(algorithm, 20)}"
    if not fields.get("nonce"):
        return "digest without a nonce"
    asked = [q.strip().lower() for q in fields["qop"].split(",")] if "qop" in fields else [""]
    qop = next((q for q in ("auth", "auth-int", "") if q in asked), None)
    if qop is None:
        return f"digest with protection {clean(fields['qop'], 20)}"
    stale = fields.get("stale", "").lower() == "true"
    return Challenge(DIGEST, fields.get("realm", ""), fields["nonce"], algorithm, qop, fields.get("opaque"), stale)


def _digest(
    challenge: Challenge, credentials: Credentials, method: str, uri: str, count: str, cnonce: str, body: bytes = b""
) -> str:
    """The response of RFC 7616 clauses 3.4.1 to 3.4.3; without qop that of RFC 2617 clause 3.2.2.1, usual in RTSP."""
    name = _ALGORITHMS[challenge.algorithm]

    def h(content: str | bytes) -> str:
        return hashlib.new(name, wire_bytes(content) if isinstance(content, str) else content).hexdigest()

    uri = wire(uri)
    secret = h(f"{wire(credentials.user)}:{challenge.realm}:{wire(credentials.password)}")
    if challenge.algorithm.endswith("-SESS"):
        secret = h(f"{secret}:{challenge.nonce}:{cnonce}")
    request = h(f"{method}:{uri}:{h(body)}" if challenge.qop == "auth-int" else f"{method}:{uri}")
    if challenge.qop:
        return h(f"{secret}:{challenge.nonce}:{count}:{cnonce}:{challenge.qop}:{request}")
    return h(f"{secret}:{challenge.nonce}:{request}")


def answer(
    challenge: Challenge,
    credentials: Credentials,
    method: str,
    uri: str,
    cnonce: str,
    request_count: int = 1,
    body: bytes = b"",
) -> str:
    """The Authorization header value that answers `challenge` for one request."""
    if challenge.scheme == BASIC:
        pair = f"{credentials.user}:{credentials.password}".encode()
        return "Basic " + base64.b64encode(pair).decode()
    count = f"{request_count:08x}"
    response = _digest(challenge, credentials, method, uri, count, cnonce, body)
    text = (
        f"Digest username={_quoted(wire(credentials.user))}, realm={_quoted(challenge.realm)}, "
        f'nonce={_quoted(challenge.nonce)}, uri={_quoted(wire(uri))}, response="{response}", algorithm={challenge.algorithm}'
    )
    if challenge.qop or challenge.algorithm.endswith("-SESS"):
        text += f', cnonce="{cnonce}"'
    if challenge.qop:
        text += f", qop={challenge.qop}, nc={count}"
    if challenge.opaque is not None:
        text += f", opaque={_quoted(challenge.opaque)}"
    return text


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


class Answering:
    """Answers one server's challenges with one pair of credentials, as a client of HTTP or RTSP must.

    `header` gives what a request carries; where it came back with 401, `challenged` says whether to ask once more with a
    newer header (true), or that the credentials are refused (false). A server's fresh nonce is no refusal.
    """

    def __init__(self, credentials: Credentials, cnonce: str) -> None:
        self.credentials = credentials
        self._cnonce = cnonce
        self._challenge: Challenge | None = None
        self._count = 0
        self._repeats = 0
        self._accepted = False
        self._one_time = False  # this server takes no nonce twice

    def take(self, challenge: Challenge) -> None:
        """Answer this challenge from now on."""
        self._challenge, self._count = challenge, 0

    def header(self, method: str, uri: str, body: bytes = b"") -> str | None:
        """The Authorization header of the next request; None where a challenge is needed first."""
        if self._challenge is None or (self._one_time and self._count):
            return None
        self._count += 1
        return answer(self._challenge, self.credentials, method, uri, self._cnonce, self._count, body)

    def accepted(self) -> None:
        """The request was answered: the credentials are right."""
        self._accepted, self._repeats = True, 0

    def challenged(self, offers: Offers) -> bool:
        """401 came back. True: send the request again, with a new header; false: refused."""
        newer = next(
            (c for c in offers.challenges if self._challenge is None or c.scheme == self._challenge.scheme), None
        )
        if newer is None or self._repeats >= _MAX_REPEATS:
            return False
        unanswered = self._challenge is None or self._count == 0 or (self._one_time and not self._repeats)
        fresh = self._challenge is not None and newer.nonce != self._challenge.nonce
        if not (unanswered or newer.stale or (self._accepted and fresh)):
            return False
        if self._accepted and fresh and not newer.stale:
            self._one_time = True
        self._repeats += 1
        self.take(newer)
        return True


@dataclass
class DigestVerifier:
    """The server's side: offers challenges and checks the answers against known accounts."""

    realm: str
    nonce: str
    algorithms: tuple[str, ...] = ("MD5",)
    qop: str = "auth"

    def challenges(self) -> list[str]:
        return [Challenge(DIGEST, wire(self.realm), self.nonce, a, self.qop).header() for a in self.algorithms]

    def user_of(self, authorization: str, method: str, accounts: Iterable[Credentials]) -> str | None:
        """The user whose password the header proves for this request; None where it proves none."""
        scheme, _, rest = authorization.partition(" ")
        fields = parse_parameters(rest) if scheme.lower() == "digest" else {}
        algorithm = fields.get("algorithm", "MD5").upper()
        if fields.get("nonce") != self.nonce or algorithm not in self.algorithms:
            return None
        challenge = Challenge(DIGEST, wire(self.realm), self.nonce, algorithm, fields.get("qop", ""))
        for account in accounts:
            if wire(account.user) == fields.get("username"):
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
