"""What is said of a device by whoever has just been there: how it is open or closed, where it is, what its clock shows."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.jobs.known.device_states import CLOSED, State
from zentrale.logbook.evidence import Judged
from zentrale.site.model import Policy
from zentrale.subjects import Kind, Ref

ENTERED = {s.value for s in (State.OUR_PASSWORD, State.KNOWN_PASSWORD, State.DEFAULT_PASSWORD, State.FRESH)}
_CLOSED = {s.value for s in CLOSED}
_ENTRY_CODES = frozenset({"SEC-3", "SEC-7", "SEC-8", "SEC-9"})
# The vault holds the password of this device: resetting it would lose a camera that may only be restarting.
_OWN_REFUSED = (
    "the vault has a password for it, so do not reset it: was its password changed in its own page? Enter that with "
    "`zentrale vault set`"
)


def judged(ref: Ref, codes: Collection[str], findings: Iterable[Finding] = ()) -> Judged:
    found = tuple(findings)
    return Judged(ref, frozenset(codes) | {f.code for f in found}, found)


def judge_entry(ref: Ref, state: str, note: str, label: str, *, own: bool = False) -> Judged:
    """How a device is open or closed. `own`: the vault has a password for it; `label`: whose password opened it."""
    findings = []
    if state == State.DEFAULT_PASSWORD.value:
        findings.append(finding("SEC-1", ref, f"{label} opens it", "a password of its own", "good practice"))
    if state == State.UNKNOWN_PASSWORD.value:
        advice = _OWN_REFUSED if own else ""
        findings.append(finding("SEC-3", ref, note or "refused", "a password in the vault opens it", "vault", advice))
    if state == State.OPEN.value:
        measured = "GetUsers answered without credentials"
        findings.append(finding("SEC-4", ref, measured, "refused", "ONVIF Core, access policy"))
    if state == State.NOT_ASKED.value:
        findings.append(finding("SEC-7", ref, note, "every password in the vault tried", "site.toml [policy]"))
    if state == State.LOCKED.value:
        findings.append(finding("SEC-8", ref, note, "an account that is open to us", "the device's own words"))
    if state == State.UNSAFE.value:
        findings.append(finding("SEC-9", ref, note, "a safe way to send the password", "good practice"))
    codes = set(_ENTRY_CODES) if state in ENTERED else set()
    if (state in ENTERED and state != State.FRESH.value) or state in _CLOSED:
        codes.add("SEC-4")  # without credentials it refused
    return judged(ref, codes, findings)


def claims_to_be_fresh(ref: Ref) -> Finding:
    """Of a device in factory default state in the place of one that the vault has a password of."""
    return finding(
        "SEC-12", ref, "it claims factory default state", "opened by the vault's password, as before", "vault"
    )


def seen_there(ref: Ref, address: str) -> list[Judged]:
    """A later run has this planned device at that address: it is neither missing nor somebody whom nobody planned."""
    return [
        Judged(ref, frozenset({"DIS-1", "DIS-11"})),
        Judged(Ref(Kind.DEVICE, address), frozenset({"DIS-2", "DIS-13"})),
    ]


def judge_clock(ref: Ref, offset_s: float, policy: Policy) -> Judged:
    findings = []
    if abs(offset_s) > policy.clock_tolerance_s:
        limit, source = f"within {policy.clock_tolerance_s:g} s", "site.toml [policy] clock_tolerance_s"
        findings.append(finding("CLK-1", ref, quantities.difference(offset_s), limit, source))
    return judged(ref, {"CLK-1"}, findings)
