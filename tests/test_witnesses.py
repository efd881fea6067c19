"""What speaks for a setting, and what it weighs: each witness in a boatyard where little else is heard."""

import unittest

from crossthread import Change, Network, apply_changes
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.diagnosis.judgement.weighing import accused, weight, witnesses
from tests.yard import at, host, interface, yard

CARRIES = "loft t1 at the other end carries just these"
USED = "2 other hosts use 10.9.10.1"


def moved(old, new):
    return Change("gateways", {"device": "crane", "interface": "g1.10", "address": old}, {"address": new})


class Witnesses(unittest.TestCase):
    def heard(self, now, change, expected, heavy, **shape):
        """In the yard as some changes leave it: what speaks for one more, the weightiest first, and its weight."""
        context = Context(Network(apply_changes(yard(**shape), now)))
        hearing = Hearing(context, accused(context, [change]))
        self.assertEqual([(one.weight, one.says) for one in witnesses(hearing, [change])], expected)
        self.assertAlmostEqual(weight(hearing, [change]), heavy)

    def test_of_a_port_that_leads_to_a_host(self):
        serves = (1.0, "crane g1.10 serves 10.9.10.0/24 in VLAN 10")
        gateway = (1.0, "its gateway 10.9.10.1 is of VLAN 10")
        astray = at("loft", "desk1", pvid=20)
        mates = (0.5, "2 of 2 other hosts of its subnet are in VLAN 10")
        self.heard([astray], at("loft", "desk1", pvid=10), [serves, gateway, mates], 2.25)
        gone = Change("gateways", {"device": "crane", "interface": "g1.10", "address": "10.9.10.1/24"}, {}, True)
        mates = (1.5, "3 of 3 other hosts of its subnet are in VLAN 10")
        self.heard([astray, gone], at("loft", "desk1", pvid=10), [mates, (0.0, gateway[1])], 1.25, desks=(3, 1))
        self.heard([], astray, [(-0.75, "")], -4.25)  # strangers live there
        self.heard([], at("loft", "desk1", pvid=1), [(-1.0, "")], -4.5)  # nobody set it

    def test_of_a_gateway_that_looks_changed_itself(self):
        now = interface("crane", "g1.10", 10, address="10.9.10.77/24")
        used = host("desk-loft-1", gateway="10.9.10.77")
        self.heard([now], used, [(1.0, ""), (-1.5, "")], -2.5, desks=(2, 1))  # the others use .1, which nobody has
        self.heard([now], used, [(1.0, ""), (-1.5, "")], -1.5, desks=(1, 0))  # the other gateway is the first
        both = [now, interface("crane", "g1.20", 20, address="10.9.20.77/24")]
        self.heard(both, used, [(1.0, "")], 0.0, desks=(1, 0), tills=(0, 0))  # here they are like that
        others = [host(name, gateway="10.9.10.77") for name in ("desk-loft-2", "desk-keel-1")]
        told = [(1.0, "2 other hosts use 10.9.10.77"), (1.0, "")]
        self.heard([now, *others], used, told, 1.0, desks=(2, 1))

    def test_of_an_end_of_a_link(self):
        access = at("keel", "t1", mode="access", pvid=10, allowed="")
        told = [
            (2.0, "stations of VLANs 10 20 are on both sides of the link"),
            (1.0, "loft t1 at the other end is a trunk port too"),
            (0.5, ""),
            (0.5, "no station is in VLAN 1"),
        ]
        self.heard([access], at("keel", "t1", mode="trunk", pvid=1, allowed="1 10 20"), told, 3.0)
        both = at("loft", "t1", mode="access", pvid=10, allowed="")
        far = (1.0, "keel t1 at the other end is an access port too")
        self.heard([access], both, [far], -2.5)
        only = (1.5, "the stations on one side of the link are of VLAN 10 only")
        self.heard([access], both, [only, far], 1.0, desks=(2, 1), tills=(0, 1))
        needed = (1.0, "stations of VLAN 10 are on both sides of the link")
        lacks = at("keel", "t1", allowed="1 20")
        self.heard([lacks], at("keel", "t1", allowed="1 10 20"), [needed, (0.5, CARRIES)], 0.5)

    def test_of_a_port_towards_a_router(self):
        access, trunk = (
            at("keel", "t9", mode="access", pvid=10, allowed=""),
            at("keel", "t9", mode="trunk", pvid="none"),
        )
        tags = "crane g1 at the other end tags its frames with VLAN"
        self.heard([access], trunk, [(2.0, f"{tags}S 10 20".replace("S", "s")), (0.5, "")], 1.5)
        gone = Change("gateways", {"device": "crane", "interface": "g1.20", "address": "10.9.20.1/24"}, {}, True)
        self.heard([access, gone], trunk, [(1.0, f"{tags} 10"), (0.5, "")], 0.5)

    def test_of_a_native_vlan_and_a_tag_type(self):
        far = "{} t1 at the other end has {}"  # one other link has VLAN 1, and is no habit
        used = [at("keel", "t1", pvid=20)]
        free = (0.5, "no station is in VLAN 1")
        self.heard(used, at("keel", "t1", pvid=1), [(1.0, far.format("loft", 1)), (0.5, ""), free], 0.5)
        self.heard(used, at("loft", "t1", pvid=20), [(1.0, far.format("keel", 20)), (0.5, "")], -0.5)
        self.heard(used, at("loft", "t1", pvid="none"), [(0.5, "")], -1.5)
        odd = [at("keel", "t1", tagging="802.1ad")]
        usual = [(1.0, "loft t1 at the other end uses 802.1Q"), (0.75, "802.1Q is the usual tag type")]
        self.heard(odd, at("keel", "t1", tagging="802.1Q"), usual, 0.75)
        self.heard(odd, at("loft", "t1", tagging="802.1ad"), [(1.0, "keel t1 at the other end uses 802.1ad")], 0.0)

    def test_of_a_hosts_own_settings(self):
        serves = (1.0, "crane g1.10 serves 10.9.10.0/24 in VLAN 10")
        inside = (1.0, "its gateway 10.9.10.1 is in that subnet")
        strange = host("desk-loft-1", address="10.9.20.77/24")
        self.heard([strange], host("desk-loft-1", address="10.9.10.2/24"), [serves, inside, (0.5, "")], 1.5)
        strange = host("desk-loft-1", address="10.9.20.77/24", gateway="10.9.20.1")
        home = host("desk-loft-1", address="10.9.10.2/24", gateway="10.9.10.1")
        self.heard([strange], home, [serves, (0.0, USED)], 0.0)
        for ear, ip, said, heavy in (
            ("keel t9", "10.9.10.2", [(2.0, "keel has heard desk-loft-1 at 10.9.10.2")], 2.0),
            ("keel t9", "10.9.20.77", [], -2.0),
            ("crane g1.20", "10.9.20.77", [], -2.0),
            ("crane g1.10", "10.9.20.77", [], 0.0),  # where it is plugged in, whatever its address is
        ):
            key = {**dict(zip(("device", "interface"), ear.split(), strict=True)), "address": ip}
            entry = Change("arp", key, {"mac": "02:00:00:00:00:01"})
            self.heard([strange, entry], home, [*said, serves, (0.0, USED)], heavy)
        lost = host("desk-loft-1", gateway="10.9.10.9")
        self.heard([lost], host("desk-loft-1", gateway="10.9.10.1"), [(1.0, USED), (1.0, ""), (0.3, "")], 1.3)
        mates = (1.5, "3 of 3 other hosts of its subnet have /24")
        wide = host("desk-loft-1", address="10.9.10.20/16")
        told = [mates, (1.0, "crane g1.10 has 10.9.10.1/24")]
        self.heard([wide], host("desk-loft-1", address="10.9.10.20/24"), told, 1.5, desks=(3, 1))

    def test_of_an_interface_that_routes(self):
        hosts = "{0} of {0} hosts of its subnet are in VLAN 10"
        named = (1.0, "the interface is named g1.10")
        swapped = interface("crane", "g1.10", 10, vid=20)
        self.heard([swapped], interface("crane", "g1.10", 10, vid=10), [(3.0, hosts.format(3)), named], 4.75)
        self.heard([], swapped, [(-0.75, ""), (-1.0, "")], -6.75)  # strangers live there, and its name says another
        plain = interface("crane", "inner", 10, vid=20)
        right = interface("crane", "inner", 10, vid=10)
        self.heard([plain], right, [(3.0, hosts.format(5))], 2.75, told=False, desks=(4, 1))
        usual = [
            (0.75, "other gateways too have the first address of their subnets"),
            (0.75, "as with others, the VID is a part of the address"),
        ]
        off = [interface("crane", "g1.10", 10, address="10.9.10.4/24")]
        back = moved("10.9.10.4/24", "10.9.10.1/24")
        self.heard(off, back, [(3.0, "4 hosts use 10.9.10.1"), *usual], 3.125, desks=(3, 1))
        self.heard(off, back, [(1.0, "desk-loft-1 uses 10.9.10.1"), *usual], 1.125, desks=(1, 0))
        wide = [interface("crane", "g1.10", 10, address="10.9.10.1/16")]
        told = [(1.5, "4 of 4 hosts of its subnet have /24")]
        self.heard(wide, moved("10.9.10.1/16", "10.9.10.1/24"), told, 0.5, desks=(3, 1))


if __name__ == "__main__":
    unittest.main()
