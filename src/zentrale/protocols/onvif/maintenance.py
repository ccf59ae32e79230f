"""Firmware, back-up and restore of a device (ONVIF Core, Device management: StartFirmwareUpgrade, GetSystemUris,
StartSystemRestore). The files themselves go by HTTP.
"""

from __future__ import annotations

import base64
import re
from dataclasses import dataclass

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TDS, TT
from zentrale.protocols.xml import Element

_DURATION = re.compile(r"PT(?:(\d+(?:\.\d+)?)H)?(?:(\d+(?:\.\d+)?)M)?(?:(\d+(?:\.\d+)?)S)?")
_LONGEST_S = 1800.0  # no device takes longer, whatever it says


@dataclass(frozen=True)
class Upload:
    """Where a file goes by HTTP POST, how long to wait before [s], and how long the device is gone afterwards [s]."""

    uri: str
    delay_s: float
    down_s: float


def start_upgrade() -> Element:
    return TDS.StartFirmwareUpgrade()


def start_restore() -> Element:
    return TDS.StartSystemRestore()


def parse_upload(response: Element) -> Upload:
    """Of StartFirmwareUpgrade and StartSystemRestore; the latter tells no delay."""
    return Upload(
        xml.text(response, "tds:UploadUri", NS),
        seconds(xml.text(response, "tds:UploadDelay", NS)),
        seconds(xml.text(response, "tds:ExpectedDownTime", NS)),
    )


def get_system_uris() -> Element:
    return TDS.GetSystemUris()


def get_system_backup() -> Element:
    return TDS.GetSystemBackup()


def parse_system_backup(response: Element) -> list[tuple[str, bytes]]:
    """The files of GetSystemBackup (ONVIF Core, Device Management) by name, as far as they are in the answer itself: a part that
    is only named, as MTOM has it, is left out. Raises RemoteProtocolError where one is no base64.
    """
    files = []
    for item in response.findall("tds:BackupFiles", NS)[:64]:
        text = "".join(xml.text(item, "tt:Data", NS).split())
        try:
            data = base64.b64decode(text, validate=True)
        except ValueError:
            raise RemoteProtocolError("GetSystemBackup: a file in it is not base64") from None
        if data:
            files.append((xml.text(item, "tt:Name", NS)[:200], data))
    return files


def parse_backup_uri(response: Element) -> str:
    """Empty where the device offers no back-up by HTTP."""
    return xml.text(response, "tds:SystemBackupUri", NS)


def seconds(duration: str) -> float:
    """An xs:duration of hours, minutes and seconds [s]; 0 where it is none, and at most half an hour."""
    match = _DURATION.fullmatch(duration.strip())
    if match is None:
        return 0.0
    hours, minutes, rest = (float(part or 0) for part in match.groups())
    return min(3600 * hours + 60 * minutes + rest, _LONGEST_S)


# The other role, for stand-ins


def upload_response(name: str, upload: Upload) -> Element:
    delay = [TDS.UploadDelay(f"PT{upload.delay_s:g}S")] if name == "StartFirmwareUpgrade" else []
    return TDS(f"{name}Response", TDS.UploadUri(upload.uri), *delay, TDS.ExpectedDownTime(f"PT{upload.down_s:g}S"))


def system_uris_response(backup_uri: str) -> Element:
    logs = TDS.SystemLogUris(TT.SystemLog(TT.Type("System"), TT.Uri(backup_uri)))
    return TDS.GetSystemUrisResponse(logs, TDS.SystemBackupUri(backup_uri))
