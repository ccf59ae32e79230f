"""Codes of what is seen of a stream: whether it plays, how it arrives, what it shows."""

from __future__ import annotations

from zentrale.findings.entry import Entry, Severity

F, W, N = Severity.FAULT, Severity.WARNING, Severity.NOTE

STREAM_CODES = [
    Entry(
        "STR-1",
        F,
        "stream does not play",
        "Nothing answered at its address, or the server ended a stream that had begun.",
        "check its link, its address and that this machine reaches it (ping, VLAN, firewall); play the address from another "
        "machine on the same switch with `zentrale verify ADDRESS`",
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
        "freeze. A number counts as lost when it is known to be: those that might have come when measuring stopped are "
        "open. TCP loses nothing: what is missing there was not sent.",
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
        "STR-12",
        F,
        "stream pauses",
        "No packet came for longer than `longest_gap_s` of the policy (not given: 1 s or five pictures at the rate of "
        "that time, whichever is longer), or none any more up to the end. The pictures of that time are on no "
        "recorder. Where this machine itself came late (STR-17) it is not judged.",
        "look at the camera's load and log, its PoE supply and the switch port's counters; measure for longer with --seconds",
    ),
    Entry(
        "STR-13",
        N,
        "packets out of order or twice",
        "Packets came in another order than they were sent in, or twice. Within 64 packets or 200 ms a player orders them: "
        "nothing is lost by it. Parallel links, or a loop in the network, do that; over TCP only the sender can.",
        "look for a second way between camera and recorder: link aggregation per packet, a loop, a mirrored port",
    ),
    Entry(
        "STR-14",
        W,
        "stream began anew while it was measured",
        "Another source (SSRC) went on in the same session, or the sequence numbers jumped: the camera's encoder or "
        "its server started anew. It was measured on; the pictures in between are missing.",
        "look at the camera's log for restarts; update its firmware where it does so by itself",
    ),
    Entry(
        "STR-15",
        N,
        "packets of another source in the stream",
        "Packets of another source came at the same time. They were not counted.",
        "look whether two cameras send to one multicast group or port",
    ),
    Entry(
        "STR-16",
        W,
        "media clock runs wrong",
        "The time stamps in the packets advance faster or slower than the packets come. It is shown too fast or too "
        "slow, and recordings drift against others. It is believed when two reports of the camera say so too, or after "
        "two minutes.",
        "update the camera's firmware; check the frame rate set against the one it can do",
    ),
    Entry(
        "STR-17",
        N,
        "this machine came late",
        "The machine that measured was too busy to read its sockets in time, or had no room for what came. What "
        "depends on the moment of arrival, such as jitter, was not judged by it; nor was loss, where packets were "
        "dropped here.",
        "close other programs, measure fewer cameras at once with --only, or measure again",
    ),
    Entry(
        "STR-18",
        F,
        "stream refuses the password",
        "The server is there and lets nobody in with this user and password. The stream may have accounts of its own, apart "
        "from those of ONVIF.",
        "check user and password; register the camera again with `zentrale register`, or add the right password with "
        "`zentrale vault add`",
    ),
    Entry(
        "STR-19",
        F,
        "no stream at this path",
        "The server is there and knows no such path; or the camera offers no such stream: none of its profiles has "
        "video for it.",
        "give the camera a profile for it with `zentrale register`; or correct the path: the maker's manual has it, "
        "for cameras without ONVIF main_path and sub_path in types.toml",
    ),
    Entry(
        "STR-20",
        F,
        "stream does not travel that way",
        "The server does not send over the transport asked for.",
        "leave --transport out, or try the other one; look whether the camera's settings turn it off; where packets are "
        "encrypted, turn SRTP off and take an rtsps:// address",
    ),
    Entry(
        "STR-21",
        F,
        "camera serves no further session",
        "The server is busy (453 or 503): all its sessions are taken, by recorders, other programs, or sessions that it has "
        "not given up yet.",
        "close other players; wait a minute for sessions that were cut off; look which machines the camera lists as "
        "connected",
    ),
    Entry(
        "STR-22",
        F,
        "what the server says makes no sense",
        "Its answers, or its description of the stream, are not what RTSP and SDP ask for, so that nothing can be played.",
        "restart the camera; update its firmware; the cause names what was wrong",
    ),
    Entry(
        "STR-23",
        F,
        "server closes the connection",
        "The connection was closed before a packet came.",
        "look at the camera's log and its load; try again; compare with --transport udp",
    ),
    Entry(
        "STR-24",
        F,
        "server falls silent",
        "The connection came about, then an answer or the first packet did not come in time.",
        "give it more time with --answer-within; over UDP look for a firewall between here and the camera; restart the "
        "camera",
    ),
    Entry(
        "STR-25",
        F,
        "camera sends players to another host",
        "It says that the stream is at another host. Nobody was asked there.",
        "look at the camera's network settings for an old address; measure the other address itself where it is meant",
    ),
    Entry(
        "STR-26",
        N,
        "camera serves few streams at once",
        "It refused a further session while others of ours were open. Its streams were measured one after the other. A "
        "recorder and a viewer may get in each other's way.",
        "count the viewers that will watch at once; let them watch from the recorder",
    ),
    Entry(
        "STR-27",
        W,
        "description and stream contradict each other",
        "The description (SDP) says one thing, the pictures another. Players that believe the description show nothing, or "
        "wrongly.",
        "restart the camera's encoder; update its firmware",
    ),
    Entry(
        "STR-28",
        N,
        "hardly any bits for its size",
        "So few bits for each point of each picture carry no detail: the picture stands still, is of one colour, or is "
        "compressed beyond use.",
        "look at the picture; check the encoder's bit rate limit and the lens cover",
    ),
    Entry(
        "STR-29",
        F,
        "stream goes to another multicast group than planned",
        "The camera sends to another group or port than the plan gives it. Two cameras on one group disturb each other.",
        "set the group in the camera, or correct cameras.csv",
    ),
    Entry(
        "STR-30",
        N,
        "datagrams from elsewhere",
        "Other hosts or ports than the negotiated one sent to the stream's port. They were not counted.",
        "look who that is: a camera that sends from another port than it says, or a stray sender",
    ),
    Entry(
        "STR-31",
        F,
        "stream does not come by multicast",
        "The plan or the camera's description says that it is sent to a multicast group; from there nothing came. It was "
        "measured by unicast.",
        "turn multicast on in the camera; look at snooping and the querier on the switches, and at the camera VLAN's ports",
    ),
    Entry(
        "STR-32",
        N,
        "codec is not one whose pictures are looked at",
        "Packets, pictures and rates of any codec are measured; a picture is decoded and judged only for some. It may "
        "be right.",
        "look at it with a player; or set the camera to one of the codecs named",
    ),
    Entry(
        "STR-33",
        W,
        "stream changed while it was measured",
        "Its size, codec, profile, rate or time stamps went on otherwise than they began: every parameter set and every key "
        "picture was looked at. A recorder may stop at that, or store two kinds in one file.",
        "look who or what sets the encoder while it runs: a timetable, day and night profiles, another client; update "
        "the firmware",
    ),
    Entry(
        "STR-34",
        F,
        "path is too narrow for the stream",
        "Over TCP packets fall more and more behind their time stamps, while the camera's own reports (RTCP sender "
        "reports) say that its clock goes right: what it sends does not fit through. Live pictures come later and "
        "later, then the camera drops some or ends the stream.",
        "compare the rate that the path carries with the links on it (`zentrale plan traffic`): a port at 10 Mbit/s or "
        "half duplex, a wireless bridge, an uplink that is full; or lower the bit rate",
    ),
    Entry(
        "STR-35",
        F,
        "stream is forbidden",
        "The server answered 403: it did not ask for another password, it does not let this one see the stream. The "
        "account lacks the right, the camera takes only certain addresses, or this stream is turned off.",
        "look at the account's role and the camera's list of addresses; try with an operator's account (policy "
        "recorder_role)",
    ),
    Entry(
        "STR-36",
        N,
        "server names another host or port as its own",
        "Its description (Content-Base) or its control addresses name another host or port than the one that was "
        "reached. That was not asked. Players that follow it find nothing.",
        "set the camera's address and ports anew; where a translation of addresses stands before it, rtsp_port in "
        "cameras.csv says so",
    ),
    Entry(
        "STR-37",
        N,
        "frame rate or key frames vary by themselves",
        "By its own time stamps the source takes more or fewer pictures, or longer and shorter groups, as the scene "
        "moves: a smart codec. Mean rates say nothing of it. It is judged by min_fps and max_keyframe_interval_s where "
        "its group has them.",
        "plan min_fps and max_keyframe_interval_s for the group, or turn the camera's smart codec off",
    ),
    Entry(
        "STR-38",
        W,
        "this machine did not follow",
        "Many streams paused at one moment, and this machine was late at that moment: what they say of pauses, rates "
        "and clocks is this machine's doing. None of it was judged.",
        "measure fewer at once with --only, close other programs, or take another laptop; then measure again",
    ),
    Entry(
        "PIC-1",
        F,
        "picture is black",
        "Nearly all of the picture is black, and nothing in it is brighter than the rest: a lens cover, a dead sensor "
        "or iris, or no light at all.",
        "look at the camera; switch its light on",
    ),
    Entry(
        "PIC-2",
        F,
        "picture is white",
        "Nearly all of the picture is white: overexposed, or something close before the lens reflects its own light.",
        "check exposure and infrared light; look for a wall, a web or a dome close by",
    ),
    Entry(
        "PIC-3",
        W,
        "picture is blurred",
        "Of the edges in the picture hardly one rises within a few points: out of focus. What is written into it does "
        "not count. It is not judged at night, nor where there is hardly an edge, as in fog.",
        "focus; clean the dome; take the protective film off",
    ),
    Entry(
        "PIC-4",
        W,
        "picture stands still",
        "Key pictures some time apart are the same to the point, noise included, and nothing came in between that could have "
        "changed them. A clock that runs in the picture does not hide it. What is sent is not what the camera sees now.",
        "move something before the camera and measure again; restart it where nothing moves in the picture",
    ),
    Entry(
        "PIC-5",
        N,
        "picture is not that of its reference",
        "What stands still in the picture lies elsewhere than in the reference picture, which was taken when the "
        "camera was put onto its channel: it was turned, or another camera is in its place. Night, snow or a crowd may "
        "do that too.",
        "look at both; where the new picture is right, `zentrale register --picture` takes it as the reference",
    ),
    Entry(
        "PIC-6",
        F,
        "picture is covered",
        "One plain surface, no brighter than the rest, reaches over the border of the picture and hides a large part "
        "of it: a hand, a cover, a wall or a branch close to the lens.",
        "look at the camera; take away what hangs or stands before it; where a wall is meant to be there, raise "
        "picture_covered_percent",
    ),
    Entry(
        "PIC-7",
        F,
        "picture is one colour: no video",
        "Nearly all of the picture is one colour, as encoders and recorders show it where no signal comes from the sensor.",
        "look at the plug between camera and encoder, and at the encoder's input; restart the camera",
    ),
]
