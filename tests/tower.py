"""A recorder that is not ours, made of plain text: ONVIF Recording Control, Receiver and Search as recorders ship. It lists
in its own order, has fixed recordings with idle jobs and empty receivers or makes them as needed, and counts what was changed.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from xml.sax.saxutils import escape, unescape

from strangers import Settable

_SPACES = {"trc": "recording", "trv": "receiver", "tse": "search", "tsc": "schedule"}
_NS = {prefix: f"xmlns:{prefix}='http://www.onvif.org/ver10/{part}/wsdl'" for prefix, part in _SPACES.items()}


def _first(pattern: str, text: str) -> str:
    found = re.search(pattern, text, re.DOTALL)
    return unescape(found[1]).strip() if found else ""


@dataclass
class Tower(Settable):
    """names: of its recordings by token, in the order of its lists; jobs: recording, source and mode by token; receivers: address
    by token; kept: MaximumRetentionTime by recording, as it was sent; makes_of: what it makes of one that it is sent. dynamic:
    recordings are made. profile: the recordings that a media profile of its own feeds. lacks: operations; hides: services.
    can: what it says of itself in its capabilities. sent: attributes and content of each job's configuration as they came, but
    for `makes_of`. schedules: name and calendar by token.
    """

    names: dict[str, str] = field(default_factory=dict)
    jobs: dict[str, tuple[str, str, str]] = field(default_factory=dict)
    receivers: dict[str, str] = field(default_factory=dict)
    kept: dict[str, str] = field(default_factory=dict)
    makes_of: dict[str, str] = field(default_factory=dict)
    dynamic: bool = False
    profile: frozenset[str] = frozenset()
    lacks: frozenset[str] = frozenset()
    hides: frozenset[str] = frozenset({"schedule"})
    can: str = ""
    sent: dict[str, tuple[str, str]] = field(default_factory=dict)
    schedules: dict[str, tuple[str, str]] = field(default_factory=dict)
    stored: bool = True
    changed: int = 0
    after: Callable[[int], None] = lambda number: None

    @classmethod
    def shipped(cls, host: str, names: dict[str, str], **more: object) -> Tower:
        """Fixed recordings, each with an idle job and an empty receiver."""
        made = cls(host, names=names, model="Rack 32", **more)  # type: ignore[arg-type]
        made.receivers = {f"v{token}": "" for token in names}
        made.jobs = {f"j{token}": (token, f"v{token}", "Idle") for token in names}
        return made

    def on(self, token: str) -> str:
        """Whither the recording's receiver points, without user and password; empty where its job is idle."""
        found = [j for j in self.jobs.values() if j[0] == token and j[2] == "Active"]
        assert len(found) < 2, "two jobs for one recording"
        return re.sub(r"//[^@/]*@", "//", self.receivers.get(found[0][1], "")) if found else ""

    def content(self, name: str, body: str) -> str | None:
        asked = re.search(r"Body[^>]*>\s*<(?:(\w+):)?\w+", body)
        space = _first(rf'xmlns:{asked[1]}="([^"]+)"', body) if asked and asked[1] else ""
        prefix = next((p for p, part in _SPACES.items() if f"ver10/{part}" in space), "")
        if name == "GetServices":
            mine = "".join(
                f"<tds:Service><tds:Namespace>http://www.onvif.org/ver10/{part}/wsdl</tds:Namespace><tds:XAddr>{self.where}/onvif/"
                f"{part}</tds:XAddr></tds:Service>" for part in ("device", *(p for p in _SPACES.values() if p not in self.hides))
            )  # fmt: skip
            return f"<tds:GetServicesResponse>{mine}</tds:GetServicesResponse>"
        if not prefix:
            return super().content(name, body)
        told = None if name in self.lacks else self.recorder(name, body)
        if told is None:
            return None
        if not name.startswith("Get"):
            self.changed += 1
            self.after(self.changed)  # before it answers
        return f"<{prefix}:{name}Response {_NS[prefix]}>{told}</{prefix}:{name}Response>"

    def recorder(self, name: str, body: str) -> str | None:
        def token_of(word: str) -> str:
            return _first(rf"<\w+:{word}>([^<]+)<", body)

        source = [_first(rf"Source>.*?<\w+:{word}>([^<]*)<", body) for word in ("Name", "Location", "Address")]
        if name == "GetServiceCapabilities":
            return f"<trc:Capabilities {_NS['trc']} DynamicRecordings='{str(self.dynamic).lower()}' {self.can}/>"
        if name == "GetRecordings":
            return "".join(
                f"<trc:RecordingItem {_NS['trc']}><tt:RecordingToken>{t}</tt:RecordingToken>"
                f"<tt:Configuration><tt:Source><tt:SourceId>src-{t}</tt:SourceId><tt:Name>{escape(n)}</tt:Name><tt:Location/>"
                "<tt:Description/><tt:Address/></tt:Source><tt:Content>c</tt:Content><tt:MaximumRetentionTime>"
                f"{self.kept.get(t, 'PT0S')}</tt:MaximumRetentionTime></tt:Configuration></trc:RecordingItem>"
                for t, n in self.names.items()
            )  # fmt: skip
        if name == "GetRecordingJobs":
            return "".join(self._job(t, *job) for t, job in self.jobs.items())
        if name == "GetScheduleList":
            listed = (
                f"<tsc:Schedule {_NS['tsc']} token='{t}'><tsc:Name>{escape(n)}</tsc:Name><tsc:Standard>{escape(c)}</tsc:Standard>"
                "</tsc:Schedule>" for t, (n, c) in self.schedules.items()
            )  # fmt: skip
            return "".join(listed)
        if name == "GetReceivers":
            return "".join(self._receiver("Receivers", t) for t in self.receivers)
        if name == "GetRecordingJobState":
            recording, _, mode = self.jobs[token_of("JobToken")]
            return (
                f"<trc:State {_NS['trc']}><tt:RecordingToken>"
                f"{recording}</tt:RecordingToken><tt:State>{mode}</tt:State></trc:State>"
            )
        if name == "GetRecordingInformation":
            now = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ") if self.stored else ""
            span = (
                f"<tt:EarliestRecording>{now}</tt:EarliestRecording><tt:LatestRecording>{now}</tt:LatestRecording>"
                if now
                else ""
            )
            return f"<tse:RecordingInformation {_NS['tse']}>{span}</tse:RecordingInformation>"
        return self._set(name, body, token_of, source)

    def _set(self, name: str, body: str, token_of: Callable[[str], str], source: list[str]) -> str | None:
        if name == "CreateRecording" and self.dynamic:
            token = f"rec{len(self.names) * 3 + 1:03d}"
            self.names[token] = source[0]
            return f"<trc:RecordingToken {_NS['trc']}>{token}</trc:RecordingToken>"
        if name == "SetRecordingConfiguration":
            self.names[token_of("RecordingToken")] = source[0]
            asked = token_of("MaximumRetentionTime")
            self.kept[token_of("RecordingToken")] = self.makes_of.get(asked, asked)
        elif name == "ConfigureReceiver":
            self.receivers[token_of("ReceiverToken")] = token_of("MediaUri")
        elif name == "CreateReceiver":
            token = f"v{len(self.receivers)}x{self.changed}"
            self.receivers[token] = token_of("MediaUri")
            return self._receiver("Receiver", token)
        elif name == "DeleteReceiver":
            del self.receivers[token_of("ReceiverToken")]
        elif name == "CreateRecordingJob":
            token = f"j{len(self.jobs)}x{self.changed}"
            receiver = _first(r"SourceToken[^>]*>\s*<\w+:Token>([^<]+)<", body)
            self.jobs[token] = (token_of("RecordingToken"), receiver, token_of("Mode"))
            return f"<trc:JobToken {_NS['trc']}>{token}</trc:JobToken>"
        elif name == "SetRecordingJobMode":
            token = token_of("JobToken")
            self.jobs[token] = (*self.jobs[token][:2], token_of("Mode"))
        elif name == "DeleteRecordingJob":
            del self.jobs[token_of("JobToken")]
        elif name == "SetRecordingJobConfiguration":
            found = re.search(r"<trc:JobConfiguration([^>]*)>(.*)</trc:JobConfiguration>", body, re.DOTALL)
            assert found is not None
            inner = found[2]
            for asked, made in self.makes_of.items():
                inner = inner.replace(f">{asked}<", f">{made}<")
            self.sent[token_of("JobToken")] = found[1], inner
        elif name == "CreateSchedule":
            self.schedules["S9"] = token_of("Name"), unescape(token_of("Standard")).replace("&#13;", "")
            return f"<tsc:Token {_NS['tsc']}>S9</tsc:Token>"
        elif name == "DeleteSchedule":
            del self.schedules[token_of("Token")]
        else:
            return None
        return ""

    def _job(self, token: str, recording: str, source: str, mode: str) -> str:
        kind = "Profile" if recording in self.profile else "Receiver"
        if token in self.sent:
            told, inner = self.sent[token]
            return (
                f"<trc:JobItem {_NS['trc']}><tt:JobToken>{token}</tt:JobToken><tt:JobConfiguration{told}>{inner}"
                "</tt:JobConfiguration></trc:JobItem>"
            )
        return (
            f"<trc:JobItem {_NS['trc']}><tt:JobToken>{token}</tt:JobToken><tt:JobConfiguration>"
            f"<tt:RecordingToken>{recording}</tt:RecordingToken><tt:Mode>{mode}</tt:Mode><tt:Priority>7</tt:Priority><tt:Source>"
            f"<tt:SourceToken Type='http://www.onvif.org/ver10/schema/{kind}'><tt:Token>{source}</tt:Token></tt:SourceToken></tt:Source>"
            "</tt:JobConfiguration></trc:JobItem>"
        )

    def _receiver(self, tag: str, token: str) -> str:
        return (
            f"<trv:{tag} {_NS['trv']}><tt:Token>{token}</tt:Token><tt:Configuration><tt:Mode>"
            f"AlwaysConnect</tt:Mode><tt:MediaUri>{escape(self.receivers[token])}</tt:MediaUri><tt:StreamSetup><tt:Stream>RTP-Unicast"
            "</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport></tt:StreamSetup></tt:Configuration>"
            f"</trv:{tag}>"
        )
