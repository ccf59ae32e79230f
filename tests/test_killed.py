"""kill -9 at every change: the program is killed by the camera itself, right after that took what it was asked for."""

from __future__ import annotations

import os
import signal
import subprocess
from dataclasses import dataclass, field
from pathlib import Path

from conftest import PROGRAM
from strangers import Rich
from test_steps import HOST, SITE, Place, serving
from zentrale.logbook.store import BEGUN, DONE, INTERRUPTED, Logbook

EVERYTHING = SITE.replace('name = "all"\n', (
    'name = "all"\nmotion = { sensitivity_percent = 80 }\nimaging = { day_night = "auto", max_exposure_ms = 5 }\n'
)).replace("[policy]", '[policy]\naudio_off = true\nhttps = "on"', 1) + (
    '[[accounts]]\nuser = "guard"\nrole = "operator"\n'
    '[[masks]]\ncamera = "north"\ncorners = [[0, 0], [25, 0], [25, 50], [0, 50]]\n'
    '[[inputs]]\ncamera = "north"\nnumber = 2\nname = "door"\nidle = "closed"\n'
)  # fmt: skip


@dataclass
class Killer(Rich):
    """It takes what it is asked for, and no answer comes: whoever asked is dead."""

    pid: int = 0
    killed_at: list[str] = field(default_factory=list)

    def content(self, name: str, body: str) -> str | None:
        before = len(self.told)
        answer = super().content(name, body)
        if len(self.told) > before and self.pid and name not in self.killed_at:
            self.killed_at.append(name)
            os.kill(self.pid, signal.SIGKILL)
        return answer


def test_a_registration_that_is_killed_at_every_change_comes_to_its_end(tmp_path: Path) -> None:
    camera = Killer(HOST, fresh=True)
    place = Place(tmp_path, camera, EVERYTHING)
    environment = {**os.environ, "ZENTRALE_PASSPHRASE": "p", "NO_COLOR": "1"}
    runs = 0
    with serving(camera):
        place.discover()
        while runs < 40:
            runs += 1
            process = subprocess.Popen(
                [PROGRAM, "register", "--site", str(place.folder.path)], env=environment, stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
            )  # fmt: skip
            camera.pid = process.pid
            told, _ = process.communicate(timeout=120)
            if process.returncode != -signal.SIGKILL:
                break
    assert len(camera.killed_at) >= 11 and runs == len(camera.killed_at) + 1, (camera.killed_at, told)
    assert "taken up: an earlier run was stopped in camera north" in told, told
    held = place.vault.device("north"), place.vault.account("north", "guard"), place.vault.account("north", "recorder")
    secrets = [k.password for k in held if k is not None]
    assert secrets == [camera.password, camera.others["guard"][0], camera.others["recorder"][0]], (
        "the vault had them first"
    )
    assert len(camera.masks) == 2 and not camera.sound and len(camera.rules) == 1, "nothing was made twice"
    with Logbook(place.folder.logbook_file) as log:
        states = [c.state for c in log.changes()]
    assert BEGUN not in states and states.count(INTERRUPTED) == len(camera.killed_at) and DONE in states
    camera.pid = 0
    with serving(camera):
        again = {n: (s.outcome.value, s.error) for n, s in place.register().items() if n != "channel"}
    assert {outcome for outcome, _ in again.values()} == {"unchanged"}, again
