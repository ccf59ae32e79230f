"""What a stand-in camera offers beside its streams: masks, motion detection, settings of the picture, inputs, sound."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from zentrale.errors import SoapRefusalError
from zentrale.protocols import soap
from zentrale.protocols.onvif import device_io, imaging, masks, media2, motion, video_source
from zentrale.protocols.onvif.device_io import DigitalInput
from zentrale.protocols.onvif.masks import Mask, MaskOptions
from zentrale.protocols.soap import NS
from zentrale.protocols.xml import Element
from zentrale.simulation.scenario import Camera

GRID = (22, 18)  # columns and rows of its motion cells
_IMAGING = {
    "ir_cut_filter": ("ON", "OFF", "AUTO"), "exposure": ("AUTO", "MANUAL"), "max_exposure_us": ("100", "40000"),
    "backlight": ("OFF", "ON"), "wide_dynamic_range": ("OFF", "ON"),
}  # fmt: skip


class PictureServices:
    """The state of one camera; `operations` are those that its scenario gives it."""

    def __init__(self, config: Camera, source: str, configuration: str) -> None:
        self._config = config
        self._source = source
        self._configuration = configuration
        self.masks: dict[str, Mask] = {}
        self.sensitivity = 50
        self.rules: dict[str, str] = {}
        self.imaging = {
            "ir_cut_filter": "AUTO", "exposure": "AUTO", "max_exposure_us": "40000", "backlight": "OFF",
            "wide_dynamic_range": "OFF",
        }  # fmt: skip
        self.inputs = [DigitalInput(f"input-{n + 1}", "open") for n in range(config.inputs)]
        self.degrees = 0

    def services(self, base: str) -> list[tuple[str, str]]:
        """Prefix and path of each service that it has."""
        has = [("timg", "imaging")] if self._config.imaging else []
        has += [("tan", "analytics")] if self._config.motion else []
        has += [("tmd", "device_io")] if self.inputs else []
        return [(prefix, f"{base}/onvif/{name}_service") for prefix, name in has]

    def operations(self) -> dict[str, Callable[[Element], Element]]:
        c = self._config
        made: dict[str, Callable[[Element], Element]] = {}
        if c.masks:
            made |= {
                "GetMasks": lambda _: masks.masks_response(self.masks.values()),
                "GetMaskOptions": lambda _: masks.options_response(MaskOptions(c.masks, 16), ("Color", "Pixelated")),
                "CreateMask": self._create_mask, "SetMask": self._set_mask, "DeleteMask": self._delete_mask,
            }  # fmt: skip
        if c.motion:
            made |= {
                "GetAnalyticsModules": lambda _: motion.modules_response(self.sensitivity, *GRID),
                "ModifyAnalyticsModules": self._modify_module,
                "GetRules": lambda _: motion.rules_response(self.rules.items()),
                "CreateRules": self._set_rule, "ModifyRules": self._set_rule, "DeleteRules": self._delete_rule,
            }  # fmt: skip
        if c.imaging:
            made |= {
                "GetImagingSettings": lambda _: imaging.settings_response(self.imaging),
                "GetOptions": lambda _: imaging.options_response(_IMAGING),
                "SetImagingSettings": self._set_imaging,
            }  # fmt: skip
        if self.inputs:
            made |= {
                "GetDigitalInputs": lambda _: device_io.inputs_response(self.inputs),
                "SetDigitalInputConfigurations": self._set_inputs,
            }  # fmt: skip
        if c.turns:
            made |= {
                "GetVideoSourceConfiguration": lambda _: self._turning(media2=False),
                "GetVideoSourceConfigurations": lambda _: self._turning(media2=True),
                "SetVideoSourceConfiguration": self._set_turning,
            }
        return made

    def _create_mask(self, request: Element) -> Element:
        wanted = masks.parse_request(request)
        if len(self.masks) >= self._config.masks or wanted.configuration != self._configuration:
            raise SoapRefusalError("Receiver", "Action", "MaxMasks", reason="no room for another mask")
        if len(wanted.corners) < 3:
            raise SoapRefusalError("Sender", "InvalidArgVal", "InvalidPolygon", reason="not a polygon")
        token = f"mask-{len(self.masks) + 1}"
        self.masks[token] = replace(wanted, token=token, element=None)
        return soap.TR2.CreateMaskResponse(soap.TR2.Token(token))

    def _set_mask(self, request: Element) -> Element:
        wanted = masks.parse_request(request)
        self._known(self.masks, wanted.token)
        self.masks[wanted.token] = replace(wanted, element=None)
        return soap.TR2.SetMaskResponse()

    def _delete_mask(self, request: Element) -> Element:
        token = request.findtext("tr2:Token", "", NS)
        self._known(self.masks, token)
        del self.masks[token]
        return soap.TR2.DeleteMaskResponse()

    def _modify_module(self, request: Element) -> Element:
        item = motion.parse_request(request)
        sensitivity = item.value("Sensitivity") if item else ""
        if not sensitivity.isdigit() or int(sensitivity) > 100:
            raise SoapRefusalError("Sender", "InvalidArgVal", "InvalidModule", reason="sensitivity is 0 to 100")
        self.sensitivity = int(sensitivity)
        return soap.TAN.ModifyAnalyticsModulesResponse()

    def _set_rule(self, request: Element) -> Element:
        item = motion.parse_request(request)
        if item is None or not item.value("ActiveCells"):
            raise SoapRefusalError("Sender", "InvalidArgVal", "InvalidRule", reason="a rule needs its cells")
        self.rules[item.name] = item.value("ActiveCells")
        return soap.TAN(f"{soap.name_of(request)}Response")

    def _delete_rule(self, request: Element) -> Element:
        name = request.findtext("tan:RuleName", "", NS)
        self._known(self.rules, name)
        del self.rules[name]
        return soap.TAN.DeleteRulesResponse()

    def _set_imaging(self, request: Element) -> Element:
        wanted = imaging.parse_set(request)
        for name, value in wanted.items():
            if name != "max_exposure_us" and value not in _IMAGING[name]:
                raise SoapRefusalError("Sender", "InvalidArgVal", "SettingsInvalid", reason=f"{name} cannot be {value}")
        self.imaging |= wanted
        return soap.TIMG.SetImagingSettingsResponse()

    def _set_inputs(self, request: Element) -> Element:
        wanted = {i.token: i for i in device_io.parse_set_inputs(request)}
        self.inputs = [wanted.get(i.token, i) for i in self.inputs]
        return soap.TMD.SetDigitalInputConfigurationsResponse()

    def _turning(self, *, media2: bool) -> Element:
        return video_source.response(self._configuration, self._source, self.degrees, media2=media2)

    def _set_turning(self, request: Element) -> Element:
        token, self.degrees = video_source.parse_set(request)
        if token != self._configuration:
            raise SoapRefusalError("Sender", "InvalidArgVal", "NoConfig", reason="no such configuration")
        make = soap.TR2 if request.tag == f"{{{NS['tr2']}}}SetVideoSourceConfiguration" else soap.TRT
        return make.SetVideoSourceConfigurationResponse()

    def _known(self, held: dict[str, Mask] | dict[str, str], token: str) -> None:
        if token not in held:
            raise SoapRefusalError("Sender", "InvalidArgVal", "NoConfig", reason="no such item")


class Microphone:
    """Which profiles carry sound: taken out and put in by either media service."""

    def __init__(self, profiles: list[str]) -> None:
        self.carries = {(p, kind): True for p in profiles for kind in ("AudioSource", "AudioEncoder")}

    def token(self, profile: str, kind: str) -> str:
        return f"{kind.lower()}-1" if self.carries.get((profile, kind)) else ""

    def operations(self) -> dict[str, Callable[[Element], Element]]:
        made: dict[str, Callable[[Element], Element]] = {
            "AddConfiguration": lambda r: self._second(r, on=True),
            "RemoveConfiguration": lambda r: self._second(r, on=False),
        }
        for kind in ("AudioSource", "AudioEncoder"):
            made[f"Add{kind}Configuration"] = lambda r, k=kind: self._first(r, k, on=True)  # type: ignore[misc]
            made[f"Remove{kind}Configuration"] = lambda r, k=kind: self._first(r, k, on=False)  # type: ignore[misc]
        return made

    def _second(self, request: Element, *, on: bool) -> Element:
        profile, kind, _ = media2.parse_configuration_request(request)
        self._set(profile, kind, on=on)
        return soap.TR2(f"{soap.name_of(request)}Response")

    def _first(self, request: Element, kind: str, *, on: bool) -> Element:
        self._set(request.findtext("trt:ProfileToken", "", NS), kind, on=on)
        return soap.TRT(f"{soap.name_of(request)}Response")

    def _set(self, profile: str, kind: str, *, on: bool) -> None:
        if (profile, kind) not in self.carries:
            raise SoapRefusalError("Sender", "InvalidArgVal", "NoProfile", reason="no such profile or configuration")
        if kind == "AudioSource" and not on and self.carries[profile, "AudioEncoder"]:
            raise SoapRefusalError("Receiver", "Action", "ConfigurationConflict", reason="the encoder needs its source")
        self.carries[profile, kind] = on
