"""Its service and what opens it: does it answer, in time, by the right clock, and does it let us in. Pure."""

from __future__ import annotations

from zentrale import quantities
from zentrale.errors import CertificateError, ClearTextError, LockedError, NotAskedError
from zentrale.jobs.diagnosing.climbing import ANSWER_S, LATE_S, Climb
from zentrale.jobs.diagnosing.diagnosis import Blame, Judged, breaks, holds, not_known
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import Planned
from zentrale.site.model import Policy

NOT_REACHED = "it was not reached"


def judge_service(row: Planned, climb: Climb | None, policy: Policy) -> Judged:
    if climb is None:
        return not_known(Layer.SERVICE, NOT_REACHED)
    if climb.by_rtsp:
        return not_known(Layer.SERVICE, "it has no web service that could be asked")
    answered = climb.answered_s
    slow = answered is None or answered > LATE_S
    if slow and (climb.out_of_time or not climb.failed or "within" in climb.failed):
        took = f"after {quantities.seconds(answered)}" if answered is not None else f"not within {ANSWER_S:g} s"
        if (answered or ANSWER_S) - climb.own_s <= LATE_S:
            return not_known(
                Layer.SERVICE,
                f"it answered {took}, and {quantities.seconds(climb.own_s)} of that this machine had no time",
            )
        causes = [
            ("it is overloaded: too many clients, or too much is switched on", f"its first answer came {took}"),
            ("something that stands before it holds answers back", "its port opened at once"),
        ]
        return breaks(
            Layer.SERVICE, "DGN-16", Blame.CAMERA, f"it answers {took}", f"GetSystemDateAndTime answered {took}", causes,
            f"restart it: `zentrale restart {row.name}`; then look who else asks it all the time",
        )  # fmt: skip
    if answered is None:
        causes = [
            ("its web service hangs or is another program's", climb.failed),
            ("ONVIF is off in its own page", "its port is open, and what answers there is no ONVIF service"),
        ]
        return breaks(
            Layer.SERVICE, "DGN-15", Blame.CAMERA, "its web service does not answer as ONVIF does", climb.failed, causes,
            f"turn ONVIF on in its own page; else `zentrale network restart {row.name}`",
        )  # fmt: skip
    offset, told = climb.offset_s, f"answered after {quantities.seconds(answered)}"
    if offset is None:
        return holds(Layer.SERVICE, f"{told}; it tells its clock to nobody")
    if abs(offset) > policy.clock_tolerance_s:
        off = quantities.difference(offset)
        causes = [
            ("its time server is not reached, or none is set", f"its clock is {off}"),
            ("its battery is empty, and it was without power", "clocks begin anew then"),
        ]
        return breaks(
            Layer.SERVICE, "DGN-17", Blame.CAMERA, f"its clock is {off}", f"{told}; clock {off}", causes,
            f"`zentrale register {row.name}` sets its clock and its time server",
        )  # fmt: skip
    return holds(Layer.SERVICE, f"{told}; clock within {policy.clock_tolerance_s:g} s")


def judge_access(row: Planned, climb: Climb | None, *, vault: bool) -> Judged:
    """`vault`: there is one to try passwords from."""
    if climb is None:
        return not_known(Layer.ACCESS, NOT_REACHED)
    if climb.entry is None:
        return _by_refusal(row, climb, vault=vault)
    entry, state = climb.entry, climb.entry.state
    if state is State.FRESH:
        causes = [
            ("it was reset, or is fresh from the box", "it answers everybody"),
            ("it lost its settings with its power", "its accounts are gone"),
        ]
        return breaks(
            Layer.ACCESS, "DGN-21", Blame.CAMERA, "it is in factory state: it has no account", "GetUsers told no account",
            causes, f"`zentrale register {row.name}` gives it its password and its settings again",
        )  # fmt: skip
    if not entry.closed:
        return holds(Layer.ACCESS, f"opened by {entry.label}" if entry.label else state.value)
    if not vault:
        return not_known(Layer.ACCESS, "there is no vault to try a password from")
    words = entry.in_words()
    if state is State.LOCKED:
        return _locked(row, words)
    if state in (State.NOT_ASKED, State.UNSAFE):
        causes = [
            ("its password was changed in its own page", words),
            ("the vault's entry is of another camera", "an exchanged one looks the same"),
        ]
        do = (
            f"wait, then `zentrale diagnose {row.name}` again; or enter its password: `zentrale vault set {row.name}`"
            if state is State.NOT_ASKED
            else "give its MAC address in the plan, or turn HTTPS or digest authentication on in its own page"
        )
        return breaks(Layer.ACCESS, "DGN-20", Blame.PASSWORD, f"nothing opens it yet: {words}", words, causes, do)
    causes = [
        ("its password was changed in its own page", f"{words}, all refused"),
        ("it was exchanged, or restored from an old back-up", "an older password would be taken then"),
    ]
    return breaks(
        Layer.ACCESS, "DGN-18", Blame.PASSWORD, f"no password opens it: {words}", words, causes,
        f"find out who changed it, and enter it: `zentrale vault set {row.name}`",
    )  # fmt: skip


def _locked(row: Planned, words: str) -> Judged:
    causes = [
        ("somebody asks it with an old password: a recorder, a viewer, another program", "it says that it is locked"),
        ("it was asked with too many wrong passwords just before", words),
    ]
    return breaks(
        Layer.ACCESS, "DGN-19", Blame.PASSWORD, f"it is locked: {words}", words, causes,
        f"wait until it opens; stop who asks with the old password, then `zentrale diagnose {row.name}`",
    )  # fmt: skip


def _by_refusal(row: Planned, climb: Climb, *, vault: bool) -> Judged:
    error = climb.refused
    if error is None:
        why = "there was no time left: each answer takes too long" if climb.out_of_time else climb.failed or "not asked"
        return not_known(Layer.ACCESS, why)
    words = error.what
    if not vault:
        return not_known(Layer.ACCESS, "there is no vault to try a password from")
    if isinstance(error, LockedError):
        return _locked(row, words)
    if isinstance(error, ClearTextError | CertificateError):
        causes = [("its password would go out where others read it", words)]
        return breaks(
            Layer.ACCESS, "DGN-20", Blame.PASSWORD, "its password was not sent, since that is not safe", words, causes,
            error.advice,
        )  # fmt: skip
    if isinstance(error, NotAskedError):
        causes = [("its password was changed", words)]
        return breaks(
            Layer.ACCESS, "DGN-20", Blame.PASSWORD, f"nothing opens it yet: {words}", words, causes,
            f"wait, then `zentrale diagnose {row.name}` again",
        )  # fmt: skip
    causes = [
        ("its password was changed in its own page", words),
        ("the vault has none for it", "all it has were tried"),
    ]
    return breaks(
        Layer.ACCESS, "DGN-18", Blame.PASSWORD, f"no password opens it: {words}", words, causes,
        f"find out who changed it, and enter it: `zentrale vault set {row.name}`",
    )  # fmt: skip
