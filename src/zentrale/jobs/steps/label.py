"""The camera's name in its picture, where the plan wants it: who looks at a recording sees where it was made."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from zentrale.field.device import Device
from zentrale.jobs.known.profile_choice import ProfileChoice
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.onvif import osd
from zentrale.protocols.onvif.osd import PLAIN, Label
from zentrale.site.model import Camera


def steps(bench: Bench) -> list[PictureLabel]:
    camera = bench.planned
    if not isinstance(camera, Camera) or not bench.plan.policy.picture_label:
        return []
    return [PictureLabel(bench.client, camera.name, bench.choice)]


def journaled(bench: Bench, name: str, state: Mapping[str, Any]) -> PictureLabel | None:
    """The step of this name with what an earlier run asked for, though the plan asks for it no more; None: it is another's."""
    camera = bench.camera
    mine = name == PictureLabel.name and camera is not None
    return PictureLabel(bench.client, camera.name, bench.choice) if mine and camera is not None else None


@dataclass(frozen=True)
class LabelState:
    """The plain text in the picture of the main stream's video source configuration; empty where there is none."""

    text: str


class PictureLabel(Step[LabelState]):
    """The first plain text of the lens is the label: it is changed, or made where there is none. Date and time stay."""

    of_a_lens = True
    name = "label"
    place = "picture: text overlay"

    def __init__(self, client: Device, text: str, choice: ProfileChoice) -> None:
        super().__init__(client)
        self._text = text
        self._choice = choice
        self._configuration = ""
        self._label: Label | None = None

    def aim(self) -> str:
        return self._text

    async def look(self) -> LabelState:
        if not self._configuration:
            self._configuration = (await self._choice.main(self.client)).source_configuration
        labels = osd.parse_osds(await self.client.call("trt", osd.get_osds(self._configuration)))
        here = [x for x in labels if x.kind == PLAIN and x.configuration in ("", self._configuration)]
        self._label = next(iter(here), None)
        return LabelState(self._label.text if self._label else "")

    def wanted(self, now: LabelState) -> LabelState:
        return LabelState(self._text)

    def near(self, now: LabelState, wanted: LabelState) -> bool:
        """Some devices keep the first letters only."""
        return len(now.text) >= _FEW and wanted.text.startswith(now.text)

    async def apply(self, now: LabelState, wanted: LabelState) -> None:
        if self._label is None:
            if wanted.text:
                await self.client.call("trt", osd.create_osd(self._configuration, wanted.text))
        elif wanted.text:
            await self.client.call("trt", osd.set_osd(self._label, wanted.text))
        else:
            await self.client.call("trt", osd.delete_osd(self._label.token))

    def shown(self, state: LabelState) -> str:
        return state.text or "none"


_FEW = 8  # letters: fewer tell nobody which camera it is
