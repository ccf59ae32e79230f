"""Codes of what the plan alone shows of power, runs, traffic, channels and storage."""

from __future__ import annotations

from zentrale.findings.entry import Entry, Severity

F, W, N = Severity.FAULT, Severity.WARNING, Severity.NOTE

PLANNING_CODES = [
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
        "PWR-8",
        F,
        "device draws more than its class",
        "What the data sheet says that the device draws is more than a device of its class may (IEEE 802.3 clauses 33.3.7 and "
        "145.3.8). The switch may cut it off as soon as it does.",
        "look the class up in the data sheet; correct poe_class or the power in types.toml; feed it from an injector",
    ),
    Entry(
        "PWR-9",
        F,
        "cable cannot carry the power",
        "Over this run the cable's resistance is so high that the power cannot arrive, however much the port gives: the device "
        "does not start, or goes off in this mode.",
        "shorten the run, take a thicker conductor, or feed the device from nearby",
    ),
    Entry(
        "PWR-10",
        W,
        "device runs with extended power only",
        "It draws more than its class says. Classes 6 and 8 may do so where the cable loses less than the worst one (extended "
        "power, IEEE 802.3 clause 145.3.8.2) and the port still stays within its limit; not every switch takes part.",
        "ask the makers of switch and device whether both know extended power; else a shorter run does not help either",
    ),
    Entry(
        "PWR-11",
        N,
        "modes added up pass the class",
        "In no mode does the device draw more than its class allows (IEEE 802.3 clauses 33.3.7 and 145.3.8), but night, cold and "
        "movement added up do. A device within its class never draws that much; the switch is planned for it all the same.",
        "look up in the data sheet what it draws at most, and write it into most_w in types.toml",
    ),
    Entry(
        "PWR-12",
        W,
        "cameras without a battery",
        "The site has back-up power, but this switch is on none of it: the cameras that it feeds go dark at once when the "
        "mains fails.",
        "feed the switch from a battery (feeds in site.toml), or accept it and say so at hand-over",
    ),
    Entry(
        "PWR-13",
        F,
        "battery feeds what nothing reaches",
        "When the mains fails this device runs on, but a switch between it and its recorder, or the recorder's own, does not: "
        "nothing is recorded, and the battery is emptied for nothing.",
        "feed the switches on the way from a battery, too",
    ),
    Entry(
        "PWR-14",
        W,
        "what it takes by PoE is not known",
        "A port with an access point, a bridge or another device that has no data sheet in the plan: nobody said whether and how "
        "much power it takes, so the sums of this switch are short of it. Its port keeps its PoE on, so that nothing goes dark.",
        "write its draw_w (0 where it is fed otherwise) or its poe_class beside it in site.toml",
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
        "TRF-5",
        W,
        "port cannot hold back a burst of key frames",
        "Cameras that start together, as after a power cut, send their key frames together. For that moment more comes "
        "than the port sends on; what its buffer does not hold is dropped, and every stream in it loses its key frame.",
        "use a faster link or a switch with larger buffers, or set different key-frame intervals",
    ),
    Entry(
        "TRF-6",
        F,
        "link is planned faster than its port",
        "A link runs at the speed of its slower end. The plan counts on more than the port named can do.",
        "correct rate_mbps of the link, or use a faster port",
    ),
    Entry(
        "TRF-7",
        N,
        "bit rate is an estimate",
        "The plan gives no bit rate for this stream, so it was estimated from codec, resolution, frame rate and how much "
        "moves. The estimate may be wrong by half; storage and link loads follow from it.",
        "give bitrate_kbps in site.toml when the customer's picture quality is settled",
    ),
    Entry(
        "TRF-8",
        F,
        "recorder cannot send what is watched",
        "All viewers together, as many pictures as they show at once, ask for more than this recorder type sends. Live pictures "
        "stall, and some recorders then lose recordings too.",
        "let viewers watch sub streams, or the cameras themselves by multicast; plan a recorder that sends more",
    ),
    Entry(
        "RUN-2",
        F,
        "cable is not made for its way",
        "Indoor cable outdoors takes water, and a sheath that is not proof against ultraviolet light cracks in the sun within a "
        "few years. The run then has to be pulled again.",
        "pull the cable that the way needs, or put the run into a duct",
    ),
    Entry(
        "TRF-10",
        W,
        "pictures are long on their way",
        "When key frames fall together, as after a power cut, packets wait at this port so long that live pictures and a turning "
        "camera lag behind. Store and forward, what waits at each port, and the way through glass and copper are added up.",
        "use a faster link there, lower the bit rates, or spread the cameras; the limit is path_delay_ms in site.toml [policy]",
    ),
    Entry(
        "TRF-9",
        F,
        "recorder cannot decode what its screen shows",
        "The recorder's own screen shows more pictures at once than it decodes. They stall or stay black.",
        "show fewer pictures or the sub streams on it (own_panels, own_stream), or watch from a workstation",
    ),
    Entry(
        "TRF-11",
        N,
        "traffic of a device is not known",
        "An access point, a bridge or another device on a port carries traffic of its own, and nobody said how much: the loads "
        "of this port and of the links behind it are short of it.",
        "write traffic_mbps beside it in site.toml: at most how much goes in either direction",
    ),
    Entry(
        "TYP-2",
        F,
        "recorder does not take this codec",
        "A stream that is to be recorded, or watched by way of the recorder, has a codec that the recorder's data sheet does not "
        "name.",
        "plan another codec for the group, or another recorder type",
    ),
    Entry(
        "STO-5",
        W,
        "recorder without drives",
        "Cameras are to be recorded, and the plan names no drives of this recorder: how many days it keeps is not known.",
        "write its drives into site.toml: storage = { drives = 4, drive_tb = 8 }",
    ),
    Entry(
        "TYP-1",
        F,
        "camera type cannot deliver the stream",
        "The group asks for a resolution or codec that the camera's data sheet does not name. The camera refuses the "
        "setting, or takes it and delivers something else.",
        "plan another group or another camera type for it",
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
        "DET-1",
        F,
        "picture is not detailed enough at the target",
        "At the planned distance the target gets fewer pixels per metre than IEC 62676-4 asks for what the picture is "
        "wanted for. No software brings back what was not resolved.",
        "take a longer lens or more pixels, or move the camera nearer",
    ),
    Entry(
        "DET-2",
        F,
        "target is outside the picture",
        "With the planned height, tilt and lens, the point to be watched lies below, above or behind what the camera "
        "sees.",
        "change the tilt or the mounting height, or take a wider lens",
    ),
    Entry(
        "DET-3",
        W,
        "part of an area is not seen well enough",
        "Some of the area lies outside every picture, behind a building, or too far away for what is wanted there. The "
        "coverage figure shows where.",
        "move or add a camera, or change what is wanted of the area in outline.geojson",
    ),
    Entry(
        "DET-4",
        F,
        "target is hidden",
        "A building or wall of the outline stands between the camera and its target.",
        "hang the camera where it sees past it, turn it, or correct the outline",
    ),
    Entry(
        "PLC-1",
        F,
        "camera is beyond every cabinet",
        "No possible cabinet lies within the longest run of this camera, so no choice of switches can serve it.",
        "add a cabinet nearer to it, or plan fibre or a long-reach extender",
    ),
    Entry(
        "PLC-2",
        F,
        "no choice of cabinets and switches fits",
        "Every camera has a cabinet in reach, but ports, PoE power, uplinks or the wanted spare share cannot all be held. "
        "What is left over, and which limit would make room, is named.",
        "change the limit named, offer a larger switch type, or add a cabinet",
    ),
    Entry(
        "PLC-3",
        F,
        "no switch type feeds this camera",
        "The camera needs a higher PoE type than any switch type on file has.",
        "add a switch type with that PoE type, or plan an injector",
    ),
    Entry(
        "PLC-4",
        W,
        "search for a placement ended early",
        "Time ran out before the wanted gap was proven. The plan shown holds every limit, but a cheaper one may exist; the "
        "gap says how much cheaper at most.",
        "give it more time with --seconds",
    ),
    Entry(
        "PLC-5",
        N,
        "placed switch would be faulted",
        "The placement was put into the plan and calculated as `plan power` and `plan traffic` do; this is what they say of "
        "it. Placement does not choose by buffers or by what one of two supplies carries.",
        "take another switch type for this cabinet, or change what the finding names",
    ),
    Entry(
        "PLC-6",
        F,
        "placement does not hold",
        "The placement was put into the plan and calculated as `plan power` and `plan traffic` do, and a limit by which "
        "it was chosen is not kept.",
        "do not build it as it stands: change what the finding names, and plan again",
    ),
]
