"""What the stand-in site consists of and what is wrong with it, read from a TOML file.

A scenario holds passwords: they are the made-up factory and installer passwords of made-up devices.
"""

from __future__ import annotations

import tomllib
from importlib import resources
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from zentrale.errors import InputError
from zentrale.protocols.http_auth import Credentials
from zentrale.simulation.switch_scenario import Switch
from zentrale.site.folder import write_atomically
from zentrale.site.values import AddressText, Mac, PlaceName, Resolution, Text

MOST_CAMERAS = 5000
BUILT_IN = "brackwater"
Port = Annotated[int, Field(ge=1024, le=65535)]


class Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Encoder(Part):
    """The settings an encoder starts with, and those a picture is made for."""

    resolution: Resolution
    fps: Annotated[int, Field(ge=1, le=60)]
    bitrate_kbps: Annotated[int, Field(ge=32, le=50_000)]
    govlength: Annotated[int, Field(ge=1, le=600)]


class Account(Part):
    user: Text
    password: Text
    level: Literal["Administrator", "Operator", "User"] = "Administrator"

    def credentials(self) -> Credentials:
        return Credentials(self.user, self.password)


class Quirks(Part):
    """What devices of some makers do otherwise."""

    probes: Literal["all", "typed", "directed"] = "all"  # which probes it answers
    discovery: Literal["2005", "1.1"] = "2005"  # the version of WS-Discovery
    tells_address: bool = True  # false: only where it is asked for it (Resolve)
    authentication: tuple[Literal["token", "digest"], ...] = ("token", "digest")
    https_only: bool = False
    chunked: bool = False  # its HTTP answers
    answer_after_s: Annotated[float, Field(ge=0, le=30)] = 0.0
    fault_text: str = ""  # the reason in its faults
    locks_after: Annotated[int, Field(ge=0)] = 0  # refusals; then it refuses all for `locked_s`
    locked_s: Annotated[float, Field(gt=0)] = 60.0
    other_macs: tuple[Mac, ...] = ()  # of more interfaces
    restarts_after: tuple[Literal["encoder", "address"], ...] = ()  # changes of these
    restart_s: Annotated[float, Field(ge=0, le=120)] = 3.0
    claims: tuple[str, ...] = ()  # operations to which it says OK, and does nothing
    firmware: Literal["takes", "keeps", "dies"] = "takes"  # what it makes of a new one
    rounds_kbps: Annotated[int, Field(ge=0)] = 0  # bit rates, down to a multiple of it
    ssdp: bool = False
    dns_sd: bool = False


class Device(Part):
    quirks: Quirks = Quirks()
    name: PlaceName
    address: AddressText
    http_port: Port = 8080
    maker: Text
    model: Text
    firmware: Text
    serial: Text
    mac: Mac
    accounts: tuple[Account, ...] = ()  # none: fresh from the factory
    clock_offset_s: float = 0.0
    answers_probes: bool = True
    default_address: AddressText | None = None  # that it leaves the factory with
    faults: tuple[Text, ...] = ()  # by name, as `simulate --fault` has them; on from the start
    min_password_length: int = 8
    max_password_length: int = 0  # 0: any
    tells_password_rules: bool = False


class Camera(Device):
    apart: bool = False  # on a link of its own, which others may share its address on
    scene: str = ""  # the name of the camera whose pictures it shows too
    onvif: bool = True  # false: RTSP only, neither web service nor answers to probes
    rtsp_port: Port = 8554
    main_path: Text = "/live/main"
    sub_path: Text = "/live/sub"
    main: Encoder
    sub: Encoder
    lenses: Annotated[int, Field(ge=1, le=8)] = 1  # each with its main and sub stream
    media: tuple[Literal["media", "media2"], ...] = ("media",)
    microphone: bool = False
    masks: Annotated[int, Field(ge=0, le=16)] = 0  # at most so many
    motion: bool = False
    imaging: bool = False
    turns: bool = False
    inputs: Annotated[int, Field(ge=0, le=16)] = 0
    # What registration will set on this one, where it is not what the scenario says for all.
    planned_main: Encoder | None = None
    planned_sub: Encoder | None = None
    # Faults that stay on whatever is set:
    streams_resolution: Resolution | None = None  # the main stream's true size, whatever the settings claim
    anonymous_viewing: bool = False
    picture: Literal["", "black", "blurred"] = ""
    loses_one_in: Annotated[int, Field(ge=0)] = 0  # packets of its main stream


class BehindRecorder(Part):
    """A camera at a port of the recorder itself: nobody else reaches its address. `stream` is what the recorder really takes in,
    with user and password; `name` what it calls it.
    """

    name: str
    channel: Annotated[int, Field(ge=1)]
    address: AddressText
    stream: str = ""


class Gap(Part):
    """A hole that began so many hours before the recorder was switched on; channels: in which, empty: in all."""

    channels: tuple[int, ...] = ()
    hours_ago: Annotated[float, Field(gt=0)]
    minutes: Annotated[float, Field(gt=0)]


class SeedArchive(Part):
    """What the channels hold from before: so many days, without the gaps; `on_min` and `off_min`: so long recorded, so long
    not; `sound`: a tone at the beginning of each second, in that codec.
    """

    days: Annotated[float, Field(gt=0, le=400)] = 30
    on_min: Annotated[float, Field(ge=0)] = 0
    off_min: Annotated[float, Field(ge=0)] = 0
    gaps: tuple[Gap, ...] = ()
    channels: tuple[int, ...] = ()  # empty: those that record
    sound: Literal["", "PCMA", "PCMU"] = ""


class Recorder(Device):
    rtsp_port: Port = 8554
    seed_archive: SeedArchive | None = None
    replay: bool = True  # it has this service
    search_page: Annotated[int, Field(ge=0)] = 0  # results in one answer at most; 0: as many as are asked for
    search_most: Annotated[int, Field(ge=0)] = 0  # results of one search at most; 0: all
    search_dies_after: Annotated[int, Field(ge=0)] = 0  # fault: results, after which it knows a search no more
    replay_ignores_range: bool = False  # fault: it begins with the oldest
    replay_skips: Annotated[int, Field(ge=0)] = 0  # fault: each so many pictures one is left out
    replay_ends_after: Annotated[int, Field(ge=0)] = 0  # fault: pictures, after which it closes the connection
    behind: tuple[BehindRecorder, ...] = ()
    channels: Annotated[int, Field(ge=1, le=256)]
    dynamic_recordings: bool = False
    dead_channels: tuple[int, ...] = ()  # fault: their jobs stay idle
    retention_days: Annotated[int, Field(ge=0, le=3650)] = 0  # as it comes; 0: nothing ends what it keeps
    retention_step_days: Annotated[int, Field(ge=0, le=366)] = 0  # it rounds that up to whole ones of these
    ring_mb: Annotated[float, Field(gt=0, le=1000)] = 4.0  # of each track on disk
    idle_jobs: bool = False  # each fixed recording comes with a job and a receiver that points nowhere
    search: bool = True  # it has these services
    schedules: bool = True
    events: bool = True  # pull points, and jobs that wait for events
    own_name: str = ""  # of its recordings, as "Eingang {number}"
    own_words: str = ""  # around what went wrong, as "E-21 ({why})"
    # Faults:
    disk: Literal["", "not initialised", "full", "failed"] = (
        ""  # it keeps nothing; jobs are active, but where it is full
    )
    records_always: bool = False  # whatever its jobs wait for
    deaf: bool = False  # it hears of no event, so that jobs that wait for one never record
    stops_after_s: dict[int, float] = {}  # channels that keep nothing more, so long after it was switched on
    really_records: dict[
        int, str
    ] = {}  # channels that take in another stream, or another camera's, than they were told


class Scenario(Part):
    name: Text
    still: bool = False  # nothing moves in front of any camera
    planned_main: tuple[Encoder, ...] = ()  # encoded ahead, since registration will set them
    planned_sub: tuple[Encoder, ...] = ()
    cameras: tuple[Camera, ...] = ()
    recorders: tuple[Recorder, ...] = ()
    switches: tuple[Switch, ...] = ()
    night: bool = False  # the lamps of the cameras are on

    def alone(self, name: str) -> Scenario:
        """Only the device of this name, where this process stands. Raises InputError."""
        cameras = tuple(c.model_copy(update={"apart": False}) for c in self.cameras if c.name == name)
        recorders = tuple(r for r in self.recorders if r.name == name)
        if not cameras and not recorders:
            raise InputError(f"--device {name}: no device of the scenario", "see `zentrale simulate --list`")
        return self.model_copy(update={"cameras": cameras, "recorders": recorders, "switches": ()})

    @property
    def devices(self) -> tuple[Camera | Recorder, ...]:
        return (*self.cameras, *self.recorders)


def read_scenario(given: str | None) -> Scenario:
    """The scenario in the file `given`, or the one that ships with the tool. Raises InputError."""
    if given is None:
        name = f"{BUILT_IN}.toml"
        text = (resources.files("zentrale") / "simulation" / "data" / name).read_text(encoding="utf-8")
    else:
        name = given
        try:
            text = Path(given).read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise InputError(f"{name}: cannot be read: {error}", "expected a scenario file in TOML") from None
    try:
        return Scenario.model_validate(tomllib.loads(text))
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"{name}: not valid TOML: {error}", "correct the file") from None
    except ValidationError as error:
        lines = [
            f"{'.'.join(str(p) for p in e['loc'])}: {e['msg'].removeprefix('Value error, ')}"
            for e in error.errors(include_url=False, include_input=False)
        ]
        raise InputError(f"{name}: {'; '.join(lines)}", "correct the file") from None


def many_cameras(number: int) -> Scenario:
    """So many alike, for load: 250 to a subnet from 127.0.40.0/24 on, all showing the same pictures. Raises InputError."""
    if not 1 <= number <= MOST_CAMERAS:
        raise InputError(f"--cameras {number}: out of range", f"expected 1 to {MOST_CAMERAS}")
    main = Encoder(resolution=(640, 360), fps=10, bitrate_kbps=400, govlength=20)
    account = Account(user="admin", password="made-up-1")
    cameras = [
        Camera(
            name=f"load-{i + 1}", scene="load", address=f"127.0.{40 + i // 250}.{1 + i % 250}", maker="Pallas Yard",
            model="Larch 2", firmware="3.1.0", serial=f"PY2-L{i + 1:05}", mac=f"02:5a:50:00:{i // 256:02x}:{i % 256:02x}",
            accounts=(account,), main=main, sub=main,
        )
        for i in range(number)
    ]  # fmt: skip
    return Scenario(name=f"{number} cameras alike", cameras=tuple(cameras))


def new_scenario(path: Path) -> None:
    """Begin a scenario of one's own. Raises InputError where the file is there already."""
    if path.exists():
        raise InputError(f"{path}: is there already", "give another name; nothing was changed")
    text = (resources.files("zentrale") / "simulation" / "data" / "new.toml").read_text(encoding="utf-8")
    write_atomically(path, text.encode("utf-8"))
