"""Codes of what the plan alone shows of addresses, ports and zones, who reaches whom, multicast, and resilience."""

from __future__ import annotations

from zentrale.findings.entry import Entry, Severity

F, W = Severity.FAULT, Severity.WARNING

NETWORK_CODES = [
    Entry(
        "ADR-1",
        F,
        "address lies outside its zone",
        "The planned address is not a host of the zone's subnet, or is its gateway: nothing in the zone reaches it.",
        "correct the address, or leave it empty and let `zentrale plan addresses --write` choose one",
    ),
    Entry(
        "ADR-2",
        F,
        "zones overlap",
        "Two zones use the same addresses. Traffic for one ends up in the other, and no rule can tell them apart.",
        "give each zone a subnet of its own in site.toml",
    ),
    Entry(
        "ADR-3",
        F,
        "zone has no free address left",
        "The block for fixed addresses has fewer places than the zone has devices.",
        "widen the block or the subnet of the zone in site.toml",
    ),
    Entry(
        "ADR-4",
        W,
        "fixed address lies in the DHCP pool",
        "A DHCP server may give this address to another device as well; then both drop out by turns.",
        "move the address out of the pool, or shrink the pool",
    ),
    Entry(
        "ADR-5",
        W,
        "several devices come with the same default address",
        "These types leave the factory with one and the same address. Plugged in together they hide one another; where "
        "it is also a planned address, they hide that device too.",
        "plug them in one at a time, or let DHCP give them addresses first",
    ),
    Entry(
        "ADR-6",
        W,
        "VLAN number does not show in the address",
        "The site asks for the VLAN number in the third part of the subnet, so that people can read it.",
        "choose a subnet such as 10.20.VLAN.0/24, or turn vlan_in_address off in site.toml",
    ),
    Entry(
        "ADR-7",
        W,
        "switch has no management address",
        "Nothing in the plan says where the switch's own page answers. A page stays in the VLAN that all ports begin in; once "
        "the work sheet is done every port is in another VLAN or off, the page is on none, and nobody reaches the switch.",
        'give each switch a zone and an address in site.toml: management = { zone = "...", address = "..." }',
    ),
    Entry(
        "ZON-1",
        F,
        "port is in the wrong zone",
        "The port list puts this device's port into another VLAN than the device's zone. It gets no address there, or an "
        "address of a zone it must not be in.",
        "correct the port in site.toml [[ports]], or the zone of the device",
    ),
    Entry(
        "ZON-2",
        F,
        "port is left out of the list",
        "The switch's list of ports is said to be complete, but a port that a camera or recorder is planned on does not "
        "stand in it: the port stays in its default VLAN, or off. The recorder's own port is the one most often forgotten.",
        "add the port to site.toml [[ports]]",
    ),
    Entry(
        "ZON-3",
        F,
        "trunk does not carry a zone",
        "This link lies on the way between devices of a zone, but its trunk does not carry that zone's VLAN: what is "
        "behind it is cut off.",
        "add the zone to tagged at both ends of the link",
    ),
    Entry(
        "ZON-4",
        F,
        "PoE is off on the port of a PoE device",
        "The port list turns PoE off where a device is planned to be fed by it. The device stays dark.",
        "remove poe = false from the port, or plan an injector",
    ),
    Entry(
        "ZON-5",
        F,
        "port list and schedule name different devices",
        "The port list names another device than the schedule or the links do. One of the two will be patched wrong.",
        "correct the port list or the schedule; the label on the wall decides",
    ),
    Entry(
        "ZON-6",
        W,
        "energy-saving Ethernet is on",
        "Energy-Efficient Ethernet (IEEE 802.3az) lets the link doze between frames. Some cameras and recorders then drop "
        "the link or lose packets.",
        "turn it off on ports of cameras and recorders",
    ),
    Entry(
        "ZON-7",
        F,
        "port is set to a speed it does not have",
        "The port list asks for a speed beyond what the switch's data sheet gives for this port.",
        "correct rate_mbps of the port, or use another port",
    ),
    Entry(
        "RCH-1",
        F,
        "reaches what it must not",
        "By the planned zones, rules and wires, devices here can begin to talk to those named, and the policy forbids it. "
        "What decides it is named as found.",
        "remove the rule or wire named, or correct the policy in site.toml [[reach]]",
    ),
    Entry(
        "RCH-2",
        F,
        "does not reach what it should",
        "The policy wants these devices to reach those named, and nothing planned allows it. What stands in the way is "
        "named as found.",
        "add a rule to site.toml [[rules]] (both zones need a gateway), or correct the policy in [[reach]]",
    ),
    Entry(
        "RCH-3",
        F,
        "the work needs a way that is not there",
        "A recorder must reach its cameras, and a viewer what it shows. By the planned zones and rules it cannot.",
        "put the recorder's camera side into the cameras' zone or its private VLAN, or add a rule",
    ),
    Entry(
        "RCH-4",
        F,
        "recorder forwards between its legs",
        "A recorder with one leg at the cameras and one at the viewers is a bridge past every rule when it passes packets "
        "on: cameras reach the viewers' side, and through it whatever that side reaches.",
        "turn packet forwarding off on the recorder",
    ),
    Entry(
        "MCT-1",
        F,
        "two groups have the same Ethernet address",
        "Only 23 bits of a group stand in its Ethernet address, so 32 groups share each (RFC 1112). Switches forward by "
        "that address: whoever asks for one of these groups gets both streams.",
        "choose groups that differ in their last 23 bits, or leave them empty and let the plan choose",
    ),
    Entry(
        "MCT-2",
        W,
        "group lies outside the scoped block",
        "Groups for use within a site belong to 239.0.0.0/8 (RFC 2365). Others are assigned, may leave the site, or are "
        "flooded by every switch.",
        "choose a group of the block named, or leave it empty and let the plan choose",
    ),
    Entry(
        "MCT-3",
        W,
        "switch on the path does not snoop",
        "Without IGMP snooping (RFC 4541) a switch sends every group to every port of the zone, also to cameras with "
        "100 Mbit/s ports, which then lose their own pictures.",
        "turn snooping on, or use a switch that has it",
    ),
    Entry(
        "MCT-4",
        F,
        "nothing brings the groups to the viewers",
        "The viewers stand in another zone than the senders, and no switch copies or routes multicast from one to the "
        "other.",
        "let a switch copy the groups (copies_multicast), or let the recorder send them on its viewing leg",
    ),
    Entry(
        "MCT-5",
        W,
        "querier stands off the path",
        "Snooping switches learn from the querier's questions. A switch that does not carry the zone cannot ask them.",
        "name a switch that carries the zone, best the one where its ways meet",
    ),
    Entry(
        "MCT-6",
        F,
        "block has no group left",
        "Every stream that is watched by multicast needs a group whose Ethernet address no other group of its zone has. "
        "The block is too small for that.",
        "widen multicast_block in site.toml [policy]; a block of /16 has room for all VLANs",
    ),
    Entry(
        "RES-1",
        F,
        "single point of failure",
        "Cameras of a group that must stay are lost when this one part fails. Their own switch does not count: a camera "
        "hangs on one cable.",
        "add a second path or supply past this part, or take the group out of resilient_groups in site.toml",
    ),
    Entry(
        "RES-2",
        W,
        "detour overloads a link",
        "When this part fails, its traffic finds another way, but a link on that way then carries more than line rate: "
        "all streams through it lose pictures.",
        "use a faster link on the detour, or lower the bit rates",
    ),
    Entry(
        "RES-3",
        F,
        "ring without loop protection",
        "Lit links close a ring, and nothing opens it again: one broadcast goes round for ever, and within seconds the whole "
        "network stands still. Every switch of a ring needs the same kind of protection: rapid or multiple spanning tree "
        "(IEEE 802.1Q clause 13), which work together, or one ring protocol on all.",
        "switch it on and write it into loop_protection of the switches, make one bundle of parallel links, or leave one "
        "link dark (lit = false)",
    ),
    Entry(
        "RES-4",
        W,
        "loop protection of a ring is not said",
        "Lit links close a ring, and the plan does not say what keeps it from going round in circles.",
        "write loop_protection (rstp, mstp, ring or none) of these switches into site.toml",
    ),
]
