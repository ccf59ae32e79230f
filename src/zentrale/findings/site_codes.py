"""Codes of what is seen on the site: discovery, clocks, access, recording, registration."""

from __future__ import annotations

from zentrale.findings.entry import Entry, Severity

F, W, N = Severity.FAULT, Severity.WARNING, Severity.NOTE

SITE_CODES = [
    Entry(
        "DIS-1",
        F,
        "planned device not found",
        "No way of discovery brought an answer from this device. What was found tells the likeliest cause by what was seen "
        "instead: another device at its address, an answer by ARP without an open port, silence of its whole switch or zone, a "
        "device of its maker on the default address, or a laptop without an address in its zone.",
        "check the port's link light and VLAN; try `zentrale discover --range` with the maker's default subnet",
    ),
    Entry(
        "DIS-2",
        W,
        "found but not planned",
        "A device answers that no row of the plan names by MAC address, address or assignment.",
        "take it into the plan with `zentrale import --found`, or bind it with `zentrale assign CAMERA ADDRESS`",
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
        "DIS-7",
        F,
        "device shows RTSP only where ONVIF is planned",
        "Its RTSP port answers, but no ONVIF service does. Nothing can be set or read there; another device may have taken "
        "the address.",
        "turn ONVIF on in its own page; where it has none, set onvif = false and its paths for its type in types.toml",
    ),
    Entry(
        "DIS-8",
        N,
        "device is called another name now",
        "The row of a registered device got another name in the plan. The device keeps its password and its history under "
        "the new name.",
        "`zentrale register` writes the new name into the device and the recorder",
    ),
    Entry(
        "DIS-9",
        W,
        "device names another host in its addresses",
        "The device told addresses (of its services, its streams) at another host than the one that answered. They were "
        "used at the host that answered; the other one was not asked and got no password. A stale network setting does "
        "that, a router in between, or somebody who is after passwords.",
        "look at the network settings in its own page; where the other host is not known to you, find out what it is",
    ),
    Entry(
        "DIS-10",
        F,
        "device answers late or with errors",
        "Something is there, but its answers came too late, broke off, or were server errors, so that it is not known who "
        "it is. It may be starting, overloaded, or asked by too many at once.",
        "wait a minute and run `zentrale discover` again; if it stays, restart the device and look at the link",
    ),
    Entry(
        "DIS-11",
        F,
        "planned device not looked for",
        "No discovery has seen it so far, and this one did not ask its planned address, so nothing can be said of it: it is "
        "not called missing, and not there either.",
        "run `zentrale discover` with its network: --range, or another --adapter",
    ),
    Entry(
        "DIS-12",
        F,
        "two devices share its address",
        "More than one MAC address answers ARP for this address (RFC 5227): now the one answers, now the other, so nothing that "
        "is set or measured there can be trusted. Fresh cameras of one maker do that, and addresses given by hand.",
        "run `zentrale register`: where the plan has their MAC addresses and this machine may pin one, it takes them in turn; "
        "`zentrale help howto-two-fresh-cameras`",
    ),
    Entry(
        "DIS-13",
        N,
        "other equipment answers",
        "A web server that is neither ONVIF nor RTSP and that nobody planned: a printer, a router, an access point, or a camera "
        "whose ONVIF service is switched off. It was asked for its first page only.",
        "if it is a camera, switch ONVIF on in its page; if nobody knows it, ask why it is in this network",
    ),
    Entry(
        "ERR-1",
        F,
        "this program failed on this device",
        "What the device sent led into a defect of this program. The work on the other devices went on. A report without "
        "any password was written; its path stands below the findings.",
        "send the report to whoever maintains this program; check this device by hand",
    ),
    Entry(
        "ERR-2",
        F,
        "this machine could not try it",
        "This machine had no more files, ports or buffers to give, or another program on it holds what was wanted. It says "
        "nothing of the device, and nothing of it was measured.",
        "do what the line says, then run the command again with --only for these devices",
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
        "add the right one with `zentrale vault add`; where nobody knows it, the device must go back to factory settings",
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
        "SEC-7",
        W,
        "not every password was tried",
        "A device may lock its account after a few wrong passwords, so only two are tried within a window (site.toml "
        "[policy] refusal_window_min), over all its doors and all commands.",
        "run the command again at the time named, or with --patient, which waits; --tries takes the risk of a lock",
    ),
    Entry(
        "SEC-8",
        F,
        "device says that it is locked",
        "The device refuses everybody for a while after wrong passwords. It is left alone until the time named; further "
        "passwords would only keep it locked.",
        "wait until then; find out who else tries passwords on it (a recorder with an old one, somebody's software)",
    ),
    Entry(
        "SEC-9",
        F,
        "password was not sent, since it is not safe",
        "The device shows another certificate than it did before, or takes the password in clear only. No password was "
        "sent to it.",
        "do as the cause says",
    ),
    Entry(
        "SEC-10",
        N,
        "a door was not tried with the maker's default password",
        "One wrong password a window is spent on this test, at one door, so that no device locks. The doors take turns from "
        "run to run.",
        "run `zentrale verify` again at the time named, or with --patient, which waits",
    ),
    Entry(
        "SEC-11",
        F,
        "another device than the vault's password is of",
        "The MAC address or the serial number of the device in this place contradicts what the vault holds with the password of "
        "this place, or what the plan says. It may have been exchanged, or somebody has put another one there. No password of "
        "the old one was sent to it.",
        "if it took the other's place: `zentrale replace CAMERA --with ADDRESS`; if it is the same: --same-device CAMERA",
    ),
    Entry(
        "SEC-12",
        W,
        "claims to be fresh, though the vault has its password",
        "The device answers as one in factory default state, and the vault has a password that opened the device in this place. "
        "It was reset, exchanged, or another one is in its place. `register` gives it a new password; the old one stays in the "
        "vault as an earlier one, and is not sent to it.",
        "look whether it is the same device; if it was exchanged, `zentrale replace CAMERA --with ADDRESS`",
    ),
    Entry(
        "SEC-13",
        N,
        "device cuts passwords",
        "It took a longer password without a word and opens with its first characters only. Those are kept in the vault now.",
        "set password_length for its type in types.toml",
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
        "REC-6",
        N,
        "channels are numbered by name, against the order of the list",
        "The recorder lists its recordings in another order than their names count (1, 10, 11, 2 ...). The number in a name is "
        "what its own screen shows, so it was taken.",
        "look at its own screen whether channel and number agree; `zentrale register --dry-run --details` shows each pair",
    ),
    Entry(
        "REC-7",
        W,
        "a recording that was a channel is gone",
        "The recorder's list holds a recording no more that was numbered as one of its channels before. It was deleted there, or "
        "the recorder was reset; what it had stored is likely to be gone too.",
        "find out who deleted it; `zentrale register` makes it anew where the recorder allows that",
    ),
    Entry(
        "REC-8",
        W,
        "a channel takes in what nobody planned",
        "A channel on which no camera is planned points at a stream. It is left as it is: somebody may need what it records.",
        "plan the camera there, or free the channel in the recorder's own page; `zentrale remove CAMERA` frees one of the plan",
    ),
    Entry(
        "REC-9",
        F,
        "nothing ends how long recordings are kept",
        "The plan names the longest time that the law allows (max_days), and the recorder has no limit for this channel, or a "
        "longer one. What is recorded would stay for as long as the disk has room.",
        "set the limit in the recorder's own page; it stands on its work sheet, channel by channel",
    ),
    Entry(
        "REC-3",
        F,
        "recorder does not answer",
        "The recorder could not be reached or refused the request, so recording could not be checked.",
        "check its address, its port and its password in the vault",
    ),
    Entry(
        "REC-4",
        W,
        "recorder holds a camera twice",
        "The recorder's own lists show one camera on two channels, two jobs for one channel, or a receiver that nothing "
        "uses beside one that does. It pulls the stream twice, and counts a channel and a licence twice.",
        "delete the channel, job or receiver that is not planned, in the recorder's own page",
    ),
    Entry(
        "REC-5",
        N,
        "recorder is entered and looked at by hand",
        'Its type says `control = "by-hand"`: it has no service that this program speaks. `register` writes a work sheet of '
        "its channels; whether they record, only a person can see.",
        "enter the channels from output/work-sheets, then look at each on the recorder's own screen",
    ),
    Entry(
        "REG-1",
        F,
        "registration step failed",
        "The device refused or failed a step of the registration, or answered OK and does not hold what it was given: "
        "every step is read back. Steps that need this one were not tried; all others went on.",
        "look at the cause named, then run `zentrale register` again: it does only what is not as planned",
    ),
    Entry(
        "REG-2",
        N,
        "planned value that no step sets",
        "The plan gives a value, the device holds another one, and `register` has no step for it.",
        "set it in the device's own page, or correct the plan",
    ),
    Entry(
        "REG-3",
        W,
        "to be set by hand",
        "The plan wants this of the device, and the device does not offer it to a program: it has no service for it, or "
        "refuses the operation as one that it does not know. What it is, and where to look for it, stands on the device's "
        "work sheet in output/work-sheets/. The next `zentrale register` looks again.",
        "do as the cause says; else set it in the device's own page by its work sheet, or take it out of the plan",
    ),
    Entry(
        "EVD-1",
        F,
        "logbook was changed after it was written",
        "Each observation in the logbook carries a digest over the one before it. Here they do not fit: a line was changed, "
        "taken out or put in by something other than this program, or the disk is damaged. The hand-over is no evidence "
        "from there on.",
        "use an older copy of logbook.sqlite, or move it away and discover, register and verify again",
    ),
]
