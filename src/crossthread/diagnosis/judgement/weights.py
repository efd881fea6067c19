"""What the witnesses weigh: the one place for all weights of the judgement.

The unit is one independent fact that agrees with a setting. An explanation's weight is that of the witnesses for what
it sets, less that of the witnesses for what it overturns, less what the work costs.
"""

PLAN = 8.0
"""What was intended decides: more than all that can be observed of one setting."""

SERVES = 1.0
"""A gateway interface of the station's subnet is in that VLAN, or has that prefix length."""
OWN = 1.0
"""A host's own address or gateway agrees; the two count once together where nothing but one interface disagrees."""
PORT = 1.0
"""The VLAN that a host's port is in, as a witness of what address it should have."""
TWO_OF_THREE = 0.5
"""A host's port and its gateway both say where it belongs, and its address alone says otherwise."""
SEVERAL = 3.0
"""What several hosts, each by its own settings, weigh at most against an interface."""
MATE, MATES = 0.25, 0.75
"""Each other host that shows where the subnet lives, and all of them at most."""
ROUTED = 1.0
"""Another router sends what is for the very subnet to the device that is to have it; or the device sends it away."""
ONE_ROUTE = 0.25
"""One route leads to an address that nobody has: as well may the route be wrong, and that is mended with less risk."""
ITSELF = -3.0
"""The device that is to have an address sends to it itself, as nobody does to himself."""
PEER, PEERS = 0.5, 1.5
"""Another host of the same kind with the same setting, or an interface beside one, and what all weigh at most."""
EMPTIED = 2.75
"""Without the host nobody would be in a VLAN that an interface serves: by all access ports of its devices."""
STRANGERS = -0.75
"""Hosts live in that VLAN, and none of the station's subnet."""
UNLISTED = -0.75
"""No trunk's list names that VLAN, and no interface, though lists name others: as if somebody mistyped it."""
NOBODY = -0.75
"""Nobody is in that VLAN, though links name it: that all of a subnet are elsewhere takes as many faults."""
HEARD = 2.0
"""An ARP cache has that address at the host's own MAC address: it had it, and was heard with it."""
FORGOTTEN = -1.0
"""A port is in VLAN 1, where it is if nobody sets it, and no interface serves the station's subnet there by its tag."""
FAR_END = 1.0
"""The other end of the cable has it so."""
NAMED = 1.0
"""A name or description says it: of the port, the interface, the VLAN."""
CROSSED = 1.0
"""Two interfaces are each named after the other's tag: by two slips hardly, by one swap easily."""
NEEDED = 2.0
"""Stations of several VLANs on both sides of a link need it to carry more than one."""
WANTED = 1.0
"""Stations of a VLAN on both sides of a link need it."""
ONLY_ONE = 1.5
"""The stations on one side of a link are of one VLAN only."""
USUAL = 0.75
"""The site's other links, or gateways, have it so; as much of it as of them have."""
UNASKED = -1.5
"""No host of that subnet has a gateway, and no route leads to the address: it may have none by design."""
UNUSED = 0.75
"""The address that the interface has instead is used by nobody, and nobody is in its subnet."""
SECOND = -1.0
"""Hosts of another subnet live in that VLAN, which an interface serves: two subnets in one VLAN are rare."""
ALL_OTHERS = 0.75
"""Every other gateway that hosts use has it so, of several, and what is there now is at no end of its subnet."""
AT_END = 0.3
"""It is the first or last address of its subnet, as gateways mostly are: decides only between equals."""
FREE_NATIVE = 0.5
"""No station is in that VLAN, as is fit for a trunk's native one."""
TAKEN_AWAY = 1.5
"""A trunk without a native VLAN does not list the far end's either: both went together, as two slips are rare."""
CARRIED = 0.5
"""The far end carries that VLAN."""
LEFT_OUT = -1.5
"""A port is put into a VLAN that both ends of a link on its way leave out."""
TRANSIT = -1.5
"""Only routers are in that subnet, which pass packets on to each other there: a host does not belong between them."""
INCOMPLETE = 2.25
"""A host has no gateway though others of its subnet have: a computer loses it with the address that it belongs to."""
IN_USE = 1.0
"""The address is a gateway's."""

DOUBTFUL = -1.5
"""A gateway's address that no other host uses, and that looks changed itself: by other hosts, or the site's habit."""

ROW = 1.0
"""To edit one more port, interface, host or other thing."""
HARM = -4.0
"""To stop a pair that works, other than by luck: chosen only if nothing else mends."""
ALL_WRONG = -4.0
"""To call all that a host has wrong: the VLAN of its port, its address, and its gateway."""
DETOUR = -3.0
"""To let packets go another way instead of mending the link where the fault is."""
AGAINST = -2.0
"""A mend that weighs less than this is not proposed, even if nothing else is known that would do."""
PROPOSED = 0.25
"""What the rule proposes by itself: decides only between equals."""

OPEN, SURE = 0.6, 3.0
"""By how much the best explanation has to outweigh the second to be likely, and to be sure."""
DECIDED = 5.0
"""So much, and so much more than any other, a repair weighs that the plan has, or an interface whose subnet all live
elsewhere: then it is sure, whatever speaks against it."""
