"""Codes of what packets show on the rehearsed network."""

from __future__ import annotations

from zentrale.findings.entry import Entry, Severity

F, N = Severity.FAULT, Severity.NOTE

REHEARSAL_CODES = [
    Entry(
        "NET-1",
        F,
        "packets reach what they should not",
        "On the rehearsed network something arrived where the plan lets nothing arrive. On site it would be the same.",
        "set the wire or rule that is named as the plan has it, then rehearse again",
    ),
    Entry(
        "NET-2",
        F,
        "packets do not reach what they should",
        "On the rehearsed network something was lost that the plan needs: no recording, no picture, or no answer on site.",
        "set the wire or rule that is named as the plan has it, then rehearse again",
    ),
    Entry(
        "NET-3",
        F,
        "device does not get its planned address",
        "Asked by DHCP with its MAC address, the device was given another address, or none.",
        "see whether its address lies in the zone's subnet and its MAC address is right in the schedule",
    ),
    Entry(
        "NET-4",
        F,
        "another DHCP server answers",
        "Two servers in one zone give addresses: devices take those of whichever answers first, and are lost then.",
        "find the device with the MAC address named and turn its DHCP server off, or take it off the zone",
    ),
    Entry(
        "NET-5",
        F,
        "two devices answer for one address",
        "Both were asked for at once and both have answered: packets for one end up at the other, now and then.",
        "give one of them another address",
    ),
    Entry(
        "NET-6",
        F,
        "frames go round in circles",
        "One frame to all was copied without end: a ring of cables with nothing that opens it. On site all stands still "
        "within seconds. Nothing else was tried.",
        "take out the second way, or turn on spanning tree on all switches of the ring",
    ),
    Entry(
        "NET-7",
        F,
        "multicast does not come where it should, or goes astray",
        "A group must reach those who have joined it, and nobody else: cameras with slow ports lose their pictures otherwise.",
        "see to snooping on the switches and to the switch that copies groups between zones",
    ),
    Entry(
        "NET-8",
        F,
        "nobody asks for multicast groups",
        "Switches forget within minutes who listens to a group, unless a querier asks: pictures stop for no visible reason.",
        "turn the querier on at the router or at one switch of the zone",
    ),
    Entry(
        "NET-9",
        F,
        "the written files do not say the same",
        "Port table, YANG data, Linux commands and the switch as it was set were compared: they must describe one network.",
        "where one was edited, change the others too, or the plan, and write them again with `zentrale network write`",
    ),
    Entry(
        "NET-10",
        N,
        "part of the network was not rehearsed",
        "This machine lacks something, or the plan does not say enough for it.",
        "install what is named, or complete the plan, then rehearse again",
    ),
    Entry(
        "NET-11",
        F,
        "a failure costs other cameras than foretold",
        "A switch, link or supply was taken away on the rehearsed network, and the recorders lost other cameras than "
        "`zentrale plan resilience` says.",
        "look at spanning tree and at the zones that the links of the ring carry, then rehearse again",
    ),
    Entry(
        "NET-12",
        F,
        "a link carries other than planned",
        "Streams of the planned rates, divided by the number that is told, ran over links divided alike, and a link "
        "carried more or less than `zentrale plan traffic` says.",
        "compare with `zentrale plan traffic`; a stream that does not play is missing on every link of its way",
    ),
    Entry(
        "NET-13",
        F,
        "streams lose packets under the planned load",
        "With all planned streams running at once packets were lost: pictures break up on site.",
        "a faster link, a second one, or lower bit rates: `zentrale plan traffic` says which link is full",
    ),
    Entry(
        "NET-14",
        N,
        "lines differ from the plan, and nothing was seen of it",
        "Somebody has edited the file, or the plan has changed since. What these lines say makes no difference to any packet "
        "that was tried.",
        "read them; `zentrale network write` makes the files as planned, and keeps what was edited beside them",
    ),
    Entry(
        "NET-15",
        F,
        "the gateway does not answer",
        "Devices of the zone asked for their gateway by ARP and pinged it: nothing leaves the zone as long as it is silent.",
        "give the router this address in the zone's VLAN, as the plan has it, then rehearse again",
    ),
    Entry(
        "NET-16",
        F,
        "RADIUS lets in otherwise than planned",
        "A RADIUS server with the written file was asked for each port: a device that is refused gets no network, one in another "
        "VLAN not its own.",
        "see to the device's lines in radius-users.txt, then rehearse again",
    ),
    Entry(
        "NET-17",
        F,
        "an address comes with the wrong way out",
        "DHCP gives more than an address: gateway, mask and time server. With a wrong one the device is there and reaches "
        "nobody.",
        "see to the options of the zone's file, then rehearse again",
    ),
    Entry(
        "NET-18",
        F,
        "a file is refused by the program that it is for",
        "The program that takes the file on site was given it as it stands, and would not have it.",
        "mend the line that is named; `zentrale network write` makes the file as planned, and keeps yours beside it",
    ),
]
