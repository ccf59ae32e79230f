"""Files that a stand-in device takes and gives by HTTP: firmware, and a back-up of what it holds."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Protocol

from zentrale.protocols.onvif import maintenance
from zentrale.protocols.onvif.maintenance import Upload
from zentrale.protocols.xml import Element
from zentrale.simulation.http_server import HttpRequest, HttpResponse
from zentrale.simulation.network_state import NetworkState
from zentrale.simulation.scenario import Camera, Recorder

FIRMWARE_PATH, RESTORE_PATH, BACKUP_PATH = "/files/firmware", "/files/restore", "/files/backup"
PATHS = (FIRMWARE_PATH, RESTORE_PATH, BACKUP_PATH)
MARK = b"made-up firmware "  # a file for stand-ins: this, and the version


class Owner(Protocol):
    """The device that it is of."""

    config: Camera | Recorder
    network: NetworkState
    hostname: str
    scopes: list[str]

    @property
    def base_url(self) -> str: ...


class Files:
    def __init__(self, owner: Owner) -> None:
        self._owner = owner

    def operations(self) -> dict[str, Callable[[Element], Element]]:
        def where(name: str, path: str) -> Element:
            down_s = self._owner.config.quirks.restart_s
            return maintenance.upload_response(name, Upload(self._owner.base_url + path, 0.1, down_s))

        return {
            "StartFirmwareUpgrade": lambda _: where("StartFirmwareUpgrade", FIRMWARE_PATH),
            "StartSystemRestore": lambda _: where("StartSystemRestore", RESTORE_PATH),
            "GetSystemUris": lambda _: maintenance.system_uris_response(self._owner.base_url + BACKUP_PATH),
        }

    def answer(self, request: HttpRequest) -> HttpResponse:
        """A request for one of PATHS, by somebody who may."""
        owner, config = self._owner, self._owner.config
        if request.target == BACKUP_PATH and request.method == "GET":
            held = json.dumps({"hostname": owner.hostname, "scopes": owner.scopes})
            return HttpResponse(200, held.encode(), "application/octet-stream")
        if request.method != "POST":
            return HttpResponse(405, b"", "text/plain")
        if request.target == RESTORE_PATH:
            held = json.loads(request.body)
            owner.hostname, owner.scopes = held["hostname"], held["scopes"]
        elif not request.body.startswith(MARK):
            return HttpResponse(400, b"not a firmware file", "text/plain")
        elif config.quirks.firmware == "takes":
            version = request.body[len(MARK) :].decode().strip()
            owner.config = config.model_copy(update={"firmware": version})
        owner.network.restart(config.quirks.restart_s, comes_back=config.quirks.firmware != "dies")
        return HttpResponse(200, b"", "text/plain")
