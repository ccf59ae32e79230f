"""The registry of finding codes: what each means, how bad it is, and what usually helps.

Codes are stable: scripts and hand-over packs refer to them. A code is never given a second meaning.
"""

from __future__ import annotations

from zentrale.findings.entry import Entry
from zentrale.findings.network_codes import NETWORK_CODES
from zentrale.findings.plain_codes import PLAIN_CODES
from zentrale.findings.planning_codes import PLANNING_CODES
from zentrale.findings.rehearsal_codes import REHEARSAL_CODES
from zentrale.findings.site_codes import SITE_CODES
from zentrale.findings.stream_codes import STREAM_CODES

CATALOGUE: dict[str, Entry] = {
    e.code: e for e in (*PLANNING_CODES, *NETWORK_CODES, *PLAIN_CODES, *REHEARSAL_CODES, *SITE_CODES, *STREAM_CODES)
}


def entry(code: str) -> Entry:
    """The entry of `code`. Raises KeyError for a code that is not registered: a defect of the tool."""
    return CATALOGUE[code]
