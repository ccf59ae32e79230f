"""The registry of finding codes: what each means, how bad it is, and what usually helps.

Codes are stable: scripts and hand-over packs refer to them. A code is never given a second meaning.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum


class Severity(Enum):
    """`fault` stops acceptance, `warning` needs a decision, `note` is worth knowing."""

    FAULT = "fault"
    WARNING = "warning"
    NOTE = "note"

    @property
    def rank(self) -> int:
        return list(Severity).index(self)


@dataclass(frozen=True)
class Entry:
    """One code: its severity, a title for a table, what it means in full, and the usual advice."""

    code: str
    severity: Severity
    title: str
    explanation: str
    advice: str


F, W, N = Severity.FAULT, Severity.WARNING, Severity.NOTE

_ENTRIES = [
    Entry(
        "PWR-1",
        F,
        "switch has too little PoE power",
        "The devices on this switch draw more power in this mode than its PoE supply gives. The switch drops the "
        "ports of lowest priority, and among equals the highest numbers, until the rest fits (RFC 3621, "
        "pethPsePortPowerPriority). It shows only when the mode begins: at night, or on the first cold morning.",
        "move a device to another switch, use an injector, or fit a switch with a larger PoE supply",
    ),
    Entry(
        "PWR-2",
        F,
        "port cannot feed the device",
        "The port's PoE type is lower than the device's class needs (IEEE 802.3 clauses 33 and 145). The device "
        "stays dark, or starts and fails when its motors, lamps or heater switch on.",
        "use a port of the type named, or an injector of that type",
    ),
    Entry(
        "PWR-3",
        W,
        "little PoE power is left",
        "The switch carries its devices in the worst mode, but less than the wanted reserve is left. Supplies age "
        "and data-sheet figures are typical values.",
        "keep the reserve free, or lower the wanted reserve in site.toml [policy] poe_reserve_percent",
    ),
    Entry(
        "PWR-4",
        F,
        "device is on a port without PoE",
        "The plan feeds this device by PoE, but the port it is planned on has none.",
        "move it to a PoE port or plan an injector",
    ),
    Entry(
        "PWR-5",
        F,
        "switch runs out of power by class",
        "This switch reserves the power of the class that a device announces, whatever it draws. The devices would fit "
        "by their draw, but the reserved classes add up to more than the supply: the last ones get no power at all.",
        "set the switch to budget by measured draw or LLDP, or fit a larger PoE supply",
    ),
    Entry(
        "PWR-6",
        W,
        "one supply alone is not enough",
        "The switch has two supplies. When one fails, the other does not carry all devices: those of lowest priority, "
        "and among equals the highest port numbers, go dark (RFC 3621).",
        "give the ports that must stay a higher priority, or fit larger supplies",
    ),
    Entry(
        "PWR-7",
        W,
        "battery does not last as long as wanted",
        "At the end of its life, and not emptied further than it may be, the battery carries its load for less than the "
        "wanted time. The load is that of the worst mode, with the PoE devices of the switches it feeds.",
        "fit a larger battery, or feed less from it",
    ),
    Entry(
        "RUN-1",
        F,
        "cable run is too long",
        "A balanced-copper channel carries Ethernet over 100 m: 90 m of fixed cable and 10 m of patch cords "
        "(ISO/IEC 11801-1). Beyond it the link drops or renegotiates, mostly when warm.",
        "shorten the route, place a switch nearer, or use fibre or a long-reach extender",
    ),
    Entry(
        "TRF-1",
        F,
        "link carries more than line rate",
        "The planned streams that cross this link add up to more than it carries. Frames are dropped in the switch: "
        "every stream through it loses pictures.",
        "lower the bit rates, use a faster uplink, or place the recorder elsewhere",
    ),
    Entry(
        "TRF-2",
        W,
        "link has too little headroom",
        "The planned streams fit the link's line rate, but leave less than the wanted headroom for key-frame "
        "bursts, playback and control.",
        "use a faster uplink, or accept it by changing site.toml [policy] link_load_percent",
    ),
    Entry(
        "TRF-3",
        F,
        "recorder takes in more than it can",
        "The streams planned for this recorder add up to more than its stated ingest limit. It drops frames or "
        "refuses channels.",
        "move cameras to another recorder, or lower the bit rates",
    ),
    Entry(
        "TRF-4",
        F,
        "no path from camera to recorder",
        "There is no chain of planned, lit links from the camera's switch to the recorder's switch.",
        "add the missing link to site.toml [[links]], or correct the switch of the camera or recorder",
    ),
    Entry(
        "CHN-1",
        F,
        "recorder has too few channels",
        "More cameras are planned on this recorder than it has channels, or a channel number lies beyond its last.",
        "move cameras to another recorder, or take a recorder with more channels",
    ),
    Entry(
        "CHN-2",
        F,
        "recorder has too few channels of this resolution",
        "A recorder takes fewer channels of high resolution than of low. More cameras of at least the resolution named "
        "are planned on it than its data sheet allows.",
        "move cameras to another recorder, lower their resolution, or take a larger recorder",
    ),
    Entry(
        "CHN-3",
        W,
        "licences are missing",
        "More cameras are planned on this recorder than are licensed: those that come with it and those held.",
        "buy the licences named as missing, and enter them as licences_held in site.toml",
    ),
    Entry(
        "STO-1",
        F,
        "recordings are kept for fewer days than wanted",
        "The drives, less redundancy, hot spares and overhead, hold fewer days than the groups ask for. The recorder "
        "overwrites the oldest pictures before their time.",
        "fit more or larger drives, lower bit rates, or record on motion",
    ),
    Entry(
        "STO-2",
        F,
        "wanted days exceed what law allows",
        "A group asks for more days than its own longest time allowed.",
        "correct keep_days or max_days of the group in site.toml",
    ),
    Entry(
        "STO-3",
        F,
        "redundancy level does not fit the drives",
        "The RAID level needs more drives, or an even number, after the hot spares are taken away; or there are more "
        "drives than bays.",
        "change the number of drives, the hot spares or the level in site.toml",
    ),
    Entry(
        "STO-4",
        N,
        "recorder must delete before its drives are full",
        "The drives hold more days than law allows to keep. Without a limit set on the recorder, pictures stay too long.",
        "set the retention limit of these channels on the recorder",
    ),
    Entry(
        "DIS-1",
        F,
        "planned device not found",
        "Neither the discovery probe nor the sweep of the address ranges brought an answer from this device. "
        "Common causes: no power, another VLAN, an address outside the ranges swept, or the laptop is on the wrong "
        "adapter.",
        "check the port's link light and VLAN; try `zentrale discover --range` with the maker's default subnet",
    ),
    Entry(
        "DIS-2",
        W,
        "found but not planned",
        "A device answers that no row of the plan names by MAC address, address or assignment.",
        "add it to cameras.csv, or bind it with `zentrale assign CAMERA ADDRESS`",
    ),
    Entry(
        "DIS-3",
        W,
        "device has another address than planned",
        "The device was recognised (by MAC address or assignment), but at another address than the plan gives it.",
        "give it the planned address, or correct the address in cameras.csv",
    ),
    Entry(
        "DIS-4",
        W,
        "device is another model than planned",
        "Maker and model that the device reports differ from the type planned for this place. Two cameras may have "
        "been swapped, or another type was delivered.",
        "compare with the label on the device; correct cameras.csv, or swap the devices",
    ),
    Entry(
        "DIS-5",
        F,
        "two planned devices claim the same MAC address or place",
        "Two answers fit the same row of the plan, so neither can be trusted to be the one meant.",
        "bind the right one with `zentrale assign CAMERA ADDRESS`",
    ),
    Entry(
        "DIS-6",
        F,
        "device answers, but not as it should",
        "Something at this address has open ports, or answered the probe, but does not speak ONVIF properly and "
        "serves no RTSP. The note says what it answered instead.",
        "open its own page in a browser; check that ONVIF is turned on in its settings, and its firmware",
    ),
    Entry(
        "CLK-1",
        W,
        "device clock is wrong",
        "The device's clock differs from this machine's by more than the tolerance. Recordings carry the wrong "
        "time, and signed requests may be refused as stale.",
        "`zentrale register` sets it; where it drifts back, point the device to an NTP server",
    ),
    Entry(
        "SEC-1",
        F,
        "default password still works",
        "The device lets anybody in who can read its manual.",
        "`zentrale register` replaces it with a generated one kept in the vault",
    ),
    Entry(
        "SEC-2",
        F,
        "anybody can watch without a password",
        "The stream plays without any credentials. Everybody who reaches this network sees the pictures.",
        "turn on RTSP authentication in the device's own settings, then run `zentrale verify` again",
    ),
    Entry(
        "SEC-3",
        F,
        "password unknown",
        "The device refuses every candidate password in the vault. Guessing further may lock the account.",
        "add the right one with `zentrale vault add`, or reset the device to factory settings",
    ),
    Entry(
        "SEC-4",
        F,
        "anybody can change settings without a password",
        "The device answers a command reserved for administrators without credentials.",
        "run `zentrale register`, which creates the administrator, then `zentrale verify` again",
    ),
    Entry(
        "SEC-5",
        W,
        "strangers' access could not be tried",
        "The test without a password, or with the default one, ended without a clear answer.",
        "run `zentrale verify --only` on this camera again; look at the cause named",
    ),
    Entry(
        "SEC-6",
        N,
        "no password was asked for",
        "The stream address given played without any credentials. Where it is a camera's, everybody who reaches this "
        "network sees its pictures.",
        "turn on RTSP authentication where the stream is not meant for everybody",
    ),
    Entry(
        "STR-1",
        F,
        "stream does not play",
        "The stream address gave no pictures to this machine.",
        "run `zentrale diagnose` on the camera or play the address shown from another machine on the same switch",
    ),
    Entry(
        "STR-2",
        F,
        "stream has another codec than planned",
        "The codec in the stream's description differs from the plan. Recorder licences, storage and the control "
        "room's decoders are sized for the planned one.",
        "set the encoder with `zentrale register`, or correct the group in site.toml",
    ),
    Entry(
        "STR-3",
        F,
        "stream has another resolution than planned",
        "Measured from the parameter sets inside the stream, not from what the device's settings claim.",
        "run `zentrale register`; where the settings already claim the planned size, restart or update the camera",
    ),
    Entry(
        "STR-4",
        F,
        "frame rate is not as planned",
        "Frames per second, counted from the stream, differ from the plan by more than the tolerance.",
        "check the camera's shutter and mains-frequency setting and its load; then the network for loss",
    ),
    Entry(
        "STR-5",
        W,
        "bit rate is above plan",
        "The stream needs more than planned: links and days of storage were worked out with the planned figure.",
        "limit the bit rate in the camera (`zentrale register`), or plan with the measured figure",
    ),
    Entry(
        "STR-6",
        W,
        "key-frame interval is not as planned",
        "The time between key frames differs from the plan. Long intervals make live view start slowly and a lost "
        "packet show for longer; short ones cost bit rate.",
        "run `zentrale register`; check that no adaptive key-frame setting is on",
    ),
    Entry(
        "STR-7",
        F,
        "packets are lost",
        "Sequence numbers are missing between camera and this machine (RFC 3550 appendix A.3). Pictures tear or "
        "freeze.",
        "look for a duplex mismatch, a bad run or an overloaded uplink on the path; compare TCP with UDP",
    ),
    Entry(
        "STR-8",
        W,
        "packets arrive unevenly",
        "Interarrival jitter (RFC 3550 clause 6.4.1) is above the tolerance: something on the path queues.",
        "look at the load of the links on the path with `zentrale plan traffic`",
    ),
    Entry(
        "STR-9",
        F,
        "no picture could be decoded",
        "Packets arrive, but no complete key frame could be decoded in the time measured.",
        "measure longer with --seconds; check the key-frame interval; restart the camera's encoder",
    ),
    Entry(
        "STR-10",
        N,
        "bit rate is far below plan",
        "The stream needs far less than planned. A quiet or dark scene does that, and so does a covered lens.",
        "look at the picture on the contact sheet",
    ),
    Entry(
        "STR-11",
        W,
        "frames are damaged",
        "Pictures arrived with missing parts: the first and last packet were there, some between were not.",
        "as for lost packets: look at the path, then at the camera",
    ),
    Entry(
        "REC-1",
        F,
        "channel does not record",
        "The recorder does not store this camera's stream at present.",
        "look at the cause the recorder gives; check the camera's password on the recorder with `zentrale register`",
    ),
    Entry(
        "REC-2",
        F,
        "channel holds something else than planned",
        "The planned channel of the recorder is empty or takes in another address.",
        "run `zentrale register`",
    ),
    Entry(
        "REC-3",
        F,
        "recorder does not answer",
        "The recorder could not be reached or refused the request, so recording could not be checked.",
        "check its address, its port and its password in the vault",
    ),
    Entry(
        "REG-1",
        F,
        "registration step failed",
        "The device refused or failed a step of the registration. The steps after it were not tried; other cameras "
        "went on.",
        "look at the cause named, then run `zentrale register` again: it takes up where it stopped",
    ),
]

CATALOGUE: dict[str, Entry] = {e.code: e for e in _ENTRIES}


def entry(code: str) -> Entry:
    """The entry of `code`. Raises KeyError for a code that is not registered: a defect of the tool."""
    return CATALOGUE[code]
