"""Codes of what the plan files alone tell: entries that cannot work together."""

from __future__ import annotations

from zentrale.findings.entry import Entry, Severity

F, W, N = Severity.FAULT, Severity.WARNING, Severity.NOTE

PLAIN_CODES = [
    Entry(
        "OPN-1",
        W,
        "switch port is not known yet",
        "Nobody wrote down where the camera is plugged in. Power and traffic count it at a free port of its switch, where that "
        "is known; the switch's configuration leaves it out.",
        "look where it is plugged in, and write switch and port into cameras.csv",
    ),
    Entry(
        "OPN-2",
        W,
        "cable run is not known yet",
        "The longest run that the site allows is counted for its power; its metres are missing from the bill of materials.",
        "measure it, or read it off the cable, and write run_length_m into cameras.csv",
    ),
    Entry(
        "OPN-3",
        W,
        "power is not known yet",
        "No device tells what it draws. Until it is known the limit of its PoE class is counted.",
        "write day_w, and night_w where it differs, of the type's data sheet into types.toml",
    ),
    Entry(
        "OPN-4",
        W,
        "cameras are not counted",
        "Nobody knows yet at which switch they are, so no figure of switches and links holds them: what is said is said of the "
        "others.",
        "write their switch into cameras.csv",
    ),
    Entry(
        "PWR-19",
        W,
        "switch may have too little PoE power",
        "It has too little only if cameras draw all that their class allows, which nobody knows of these. What is known fits.",
        "write day_w, and night_w where it differs, of the types into types.toml, then `zentrale plan power` again",
    ),
    Entry(
        "PWR-18",
        N,
        "the class's limit is counted",
        "Nobody knows what the camera draws, so what a port of its class gives at most is counted: more than it will be.",
        "write day_w, and night_w where it differs, of the type's data sheet into types.toml",
    ),
    Entry(
        "ADR-8",
        F,
        "gateway is no host of its zone",
        "Devices reach a gateway only where it is an address of their own subnet, and neither the first nor the last of it: "
        "those are the subnet's own and the one to all (RFC 919, RFC 950).",
        "correct gateway or subnet of the zone in site.toml",
    ),
    Entry(
        "ADR-9",
        F,
        "DHCP pool lies over the fixed block",
        "What the server gives away, the plan gives to cameras and recorders too: sooner or later two devices have one address.",
        "set fixed and pool of the zone apart in site.toml",
    ),
    Entry(
        "ADR-10",
        W,
        "address lies outside the fixed block",
        "The zone has a block for cameras and recorders, and this device is planned elsewhere in the subnet, where nobody looks "
        "for it.",
        "give it an address of the block, or widen fixed of the zone",
    ),
    Entry(
        "RUN-3",
        F,
        "cable category is too low",
        "Category 3 has neither the four pairs for PoE classes 5 to 8 (IEEE 802.3 clause 145) nor the bandwidth for a gigabit "
        "(clause 40).",
        "pull category 5e or better, or correct cable_category",
    ),
    Entry(
        "RUN-4",
        F,
        "channel is too long with its cords",
        "The fixed cable alone keeps within its limit, but with the patch cords at both ends it is over 100 m, which is what a "
        "balanced-copper channel carries.",
        "shorten run or cords (cords_m in site.toml [policy]), or place a switch nearer",
    ),
    Entry(
        "RUN-5",
        F,
        "link is longer than its medium reaches",
        "Over this length light or current arrives too weak, or too blurred, for the rate: the link does not come up, or loses "
        "frames when it is warm.",
        "take a fibre that reaches so far (om4, os2), a lower rate, or a switch between",
    ),
    Entry(
        "RUN-6",
        N,
        "what a link is made of is not said",
        "It is longer than copper reaches, so it is fibre of some kind; which one decides how far it goes at its rate.",
        'write medium = "om3", "om4" or "os2" beside it in site.toml [[links]]',
    ),
    Entry(
        "ZON-8",
        F,
        "port is access and trunk at once",
        "A port has either one untagged zone (access), or tagged ones (tagged), of which one may go without a tag (native).",
        "keep access or tagged; for what goes without a tag on a trunk write native",
    ),
    Entry(
        "ZON-9",
        F,
        "native VLAN differs at two ends",
        "What leaves one end without a tag arrives in another VLAN at the other: two zones are joined, past every rule.",
        "write the same native at both ports of the link, or at none",
    ),
    Entry(
        "PWR-15",
        W,
        "PoE class is not known",
        "The camera type has no poe_class. The switch finds a class out by itself, and reserves by it; here a device without "
        "one is counted, which is class 0, or the lowest class above that takes what the type draws.",
        "look it up in the data sheet, and write poe_class into types.toml",
    ),
    Entry(
        "PWR-16",
        N,
        "device of the mains is on a PoE port",
        "A port that could feed a camera is taken by one that needs no feeding; or the type's supply is wrong, and it stays dark "
        "without its own supply.",
        "move it to a port without PoE, or correct supply",
    ),
    Entry(
        "TRF-12",
        F,
        "stream that is asked for is not planned",
        "The cameras of these groups have no such stream: on this screen they stay black.",
        "give the group that stream, or let the viewer ask for another (stream in site.toml)",
    ),
    Entry(
        "TYP-3",
        W,
        "bit rate is far below what the picture needs",
        "At codec, size and frame rate as planned, this bit rate is less than half of what a scene takes in which little moves: "
        "the picture breaks into blocks, or the encoder takes more all the same, and loads and days of storage are wrong.",
        "raise bitrate_kbps, or lower resolution or fps of the group",
    ),
    Entry(
        "TYP-4",
        W,
        "key frames are far apart",
        "Whoever begins to watch, or winds back, waits for the next key frame; a lost packet shows for as long.",
        "2 s are usual; for a smart codec give the longest in max_keyframe_interval_s",
    ),
    Entry(
        "RCH-5",
        W,
        "cameras do not reach the time server",
        "Their clocks drift, pictures carry a wrong hour, and signed requests fail. A zone without a gateway has no way to a "
        "server elsewhere.",
        "take a time server in the cameras' own zone, such as the recorder (time_server in site.toml), or let UDP 123 pass",
    ),
    Entry(
        "CHN-2",
        W,
        "no channels left to grow",
        "The site asks for room to grow (growth_percent), and the recorder has too few channels for that.",
        "plan a larger recorder, or one more, or ask for less",
    ),
    Entry(
        "TRF-13",
        W,
        "no ingest left to grow",
        "The site asks for room to grow (growth_percent), and the recorder does not take in so much more.",
        "plan a recorder that takes in more, or ask for less",
    ),
    Entry(
        "STO-6",
        W,
        "no storage left to grow",
        "The site asks for room to grow (growth_percent), and the drives do not hold the wanted days of so much more.",
        "plan more or larger drives, or ask for less",
    ),
    Entry(
        "PWR-17",
        W,
        "no PoE power left to grow",
        "The site asks for room to grow (growth_percent), and the switch cannot feed so much more.",
        "fit a switch with a larger PoE supply, or ask for less",
    ),
    Entry(
        "MAT-1",
        N,
        "price is not known",
        "The sum of the bill of materials is short of it.",
        "write price beside it: of a type in types.toml, drive_price of a recorder's storage, cable_price_per_m of [placement]",
    ),
    Entry(
        "MAT-2",
        N,
        "length is not known",
        "The cable has no length in the plan, so neither its metres nor their price are counted.",
        "write run_length_m of the camera, or length_m of the link",
    ),
    Entry(
        "MAT-3",
        W,
        "more drives are needed than planned",
        "For the wanted days and the room to grow the planned drives are too few; the bill has as many as it takes.",
        "plan them (storage of the recorder), or want fewer days",
    ),
]
