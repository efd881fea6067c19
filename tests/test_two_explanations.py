"""Where two explanations are possible: which of them is proposed, which is listed, and how sure the answer is."""

import dataclasses
import unittest
from itertools import permutations

from crossthread import Change, Network, apply_changes, check, read_survey, why
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding, Subject
from crossthread.diagnosis.repair.candidates import others
from crossthread.survey import Info
from tests.building import DATA, cabled, hosts, network_of, ports
from tests.refusing import Refusing
from tests.test_plan import plan_of
from tests.yard import at, host, interface, yard

HOMES = (
    ("a", "60.20/24", "keel p1"),
    ("b", "60.21/24", "loft p1"),
    ("c", "10.9/24", "keel p2"),
    ("d", "20.9/24", "loft p2"),
)
"""Two of one subnet in two VLANs, in which others live."""
ROUTER = "device|interface|address|vid|port|untagged|admin|oper|proxy_arp\n"


class Yard(unittest.TestCase):
    """What one yard answers once some settings are wrong."""

    def asked(self, changes, source="desk-loft-1", target="till-keel-1", **shape):
        survey = apply_changes(yard(**shape), changes)
        answer = why(Network(survey), source, target)
        self.assertTrue(answer.repair_proven)
        Refusing(survey).carry_out(answer.order)
        return answer

    def mends(self, answer):
        return sorted(str(change) for change in answer.repair)

    def test_where_nobody_routes_who_is_asked_for_tells_which_subnet_is_meant(self):
        lost = [Change("gateways", {**interface("crane", f"g1.{v}", v).key}, {}, True) for v in (10, 20)]
        alone = [host(f"{who}-{n}-1", gateway="none") for who in ("desk", "till") for n in ("loft", "keel")]
        odd = [*lost, *alone, host("till-loft-1", address="10.9.10.77/24")]
        for other, mend in (
            ("till-keel-1", "hosts till-loft-1: address = 10.9.20.2/24"),
            ("desk-keel-1", "ports loft till1: pvid = 10"),
        ):
            answer = self.asked(odd, "till-loft-1", other, desks=(1, 1))
            self.assertEqual((self.mends(answer), answer.confidence), ([mend], "likely"))

    def test_the_interface_gets_the_address_that_others_ask_for_and_the_odd_host_as_well(self):
        odd = [interface("crane", "g1.10", 10, address="10.9.10.77/24"), host("desk-loft-1", gateway="10.9.10.78")]
        answer = self.asked(odd, desks=(2, 0))
        self.assertEqual(
            self.mends(answer),
            ["gateways crane g1.10 10.9.10.77/24: address = 10.9.10.1/24", "hosts desk-loft-1: gateway = 10.9.10.1"],
        )

    def test_of_one_host_and_an_interface_the_one_at_the_end_of_the_subnet_is_right(self):
        answer = self.asked([host("desk-loft-1", gateway="10.9.10.78")], desks=(1, 0))
        self.assertEqual(self.mends(answer), ["hosts desk-loft-1: gateway = 10.9.10.1"])
        self.assertIn(
            ("gateways crane g1.10 10.9.10.1/24: address = 10.9.10.78/24",),
            [tuple(map(str, other.changes)) for other in answer.findings[0].alternatives],
        )

    def test_who_asks_outside_its_subnet_while_the_interface_lost_its_address(self):
        lost = [interface("crane", "g1.10", 10, address="10.7.7.9/24"), host("desk-loft-1", gateway="10.7.7.9")]
        answer = self.asked(lost, desks=(2, 1))
        self.assertEqual(
            self.mends(answer),
            ["gateways crane g1.10 10.7.7.9/24: address = 10.9.10.1/24", "hosts desk-loft-1: gateway = 10.9.10.1"],
        )

    def test_who_shares_a_gateway_tells_a_prefix_that_is_too_long(self):
        gone = Change("gateways", {"device": "crane", "interface": "g1.10", "address": "10.9.10.1/24"}, {}, True)
        wrong = [host("desk-loft-1", address="10.9.10.200/25"), gone]
        answer = self.asked(wrong, desks=(3, 0))
        self.assertIn("hosts desk-loft-1: address = 10.9.10.200/24", self.mends(answer))

    def test_a_routers_port_in_the_wrong_vlan_that_has_no_address(self):
        gone = Change("gateways", {"device": "crane", "interface": "g1", "address": "10.9.10.1/24"}, {}, True)
        answer = self.asked([gone, at("keel", "t8", pvid=20)], desks=(2, 1), style="ports")
        self.assertEqual([f.rule for f in answer.findings], ["gateway-missing"])
        self.assertIn("ports keel t8: pvid = 10", self.mends(answer))
        self.assertTrue(
            any(mend.startswith("gateways crane g1 10.9.10.1/24: port = g1") for mend in self.mends(answer))
        )

    def test_a_routers_port_in_the_wrong_vlan_whose_address_nobody_uses(self):
        odd = interface("crane", "g1", 10, address="10.7.7.9/24")
        answer = self.asked([odd, at("keel", "t8", pvid=20)], desks=(2, 1), style="ports")
        self.assertEqual(
            self.mends(answer), ["gateways crane g1 10.7.7.9/24: address = 10.9.10.1/24", "ports keel t8: pvid = 10"]
        )

    def test_a_gateway_whose_name_tells_of_a_third_vlan(self):
        """The tag, the host's port and the interface's name disagree: each of the last two may be right."""
        answer = self.asked([interface("crane", "g1.10", 10, vid=1), at("loft", "desk1", pvid=20)], desks=(1, 0))
        told = [set(map(str, one.changes)) for finding in answer.findings for one in finding.alternatives]
        self.assertTrue(any({"ports loft desk1: pvid = 10", "gateways crane g1.10 10.9.10.1/24: vid = 10"} <= one
                            for one in [set(self.mends(answer)), *told]))  # fmt: skip

    def test_no_interface_gets_an_address_that_a_router_nobody_read_may_have(self):
        """What the others ask for may be answered by the lighter, of which only its neighbour tells."""
        odd = [interface("crane", "g1.10", 10, address="10.9.10.77/24"), host("desk-loft-1", gateway="none")]
        heard = {"device": "keel", "port": "t7", "protocol": "lldp", "neighbor": "lighter", "neighbor_chassis": "",
                 "neighbor_port": "a1"}  # fmt: skip
        lighter = Change("neighbors", heard, {"capabilities": "router"})
        unread = [at("keel", "t7", mode="trunk", pvid="none", allowed="10 20", admin="up", oper="up"), lighter]
        for more in ([], unread):
            survey = apply_changes(yard(desks=(2, 0)), [*odd, *more])
            lacks = Finding("host-gateway-missing", "breaks", (Subject(host="desk-loft-1"),), "", (),
                            (host("desk-loft-1", gateway="10.9.10.77"),))  # fmt: skip
            options = others(Context(Network(survey)), lacks)
            given = {change.cells.get("address") for option in options for change in option}
            self.assertEqual("10.9.10.1/24" in given, not more)

    def test_the_address_that_most_ask_for_where_the_interface_has_a_strange_one(self):
        odd = [interface("crane", "g1.10", 10, address="10.7.7.9/24"), host("desk-loft-1", gateway="10.9.10.78")]
        answer = self.asked(odd, desks=(2, 1))
        self.assertEqual(
            self.mends(answer),
            ["gateways crane g1.10 10.7.7.9/24: address = 10.9.10.1/24", "hosts desk-loft-1: gateway = 10.9.10.1"],
        )
        self.assertNotEqual(answer.confidence, "sure")

    def test_whose_port_and_gateway_agree_counts_although_its_address_is_from_elsewhere(self):
        odd = [interface("crane", "g1.10", 10, address="10.7.7.9/24"), host("desk-loft-1", gateway="10.9.10.78")]
        odd.append(host("desk-keel-1", address="10.9.20.77/24"))
        answer = self.asked(odd, desks=(1, 1))
        self.assertEqual(
            self.mends(answer),
            ["gateways crane g1.10 10.7.7.9/24: address = 10.9.10.1/24", "hosts desk-loft-1: gateway = 10.9.10.1"],
        )
        told = check(apply_changes(yard(desks=(1, 1)), odd))
        self.assertIn("gateways crane g1.10 10.7.7.9/24: address = 10.9.10.1/24", self.mended(told))

    def mended(self, told):
        return [str(change) for finding in told.findings for change in finding.repair]

    def test_an_address_that_something_speaks_of_stays(self):
        odd = [interface("crane", "g1", 10, address="10.7.7.9/24"), at("keel", "t8", pvid=20)]
        spoken = Change("devices", {"device": "loft"}, {"management": "10.7.7.9"})
        for more, kept in (([], False), ([spoken], True)):
            survey = apply_changes(yard(desks=(2, 1), style="ports"), [*odd, *more])
            after = apply_changes(survey, why(Network(survey), "desk-loft-1", "till-keel-1").repair)
            self.assertEqual("10.7.7.9/24" in {row.address for row in after.gateways}, kept)

    def test_a_cut_that_others_suffer_from_speaks_for_neither_explanation(self):
        """The desk's port is wrong, and its VLAN is cut off from its gateway, as other desks know."""
        cut = [at("loft", "t1", allowed="1 20"), at("keel", "t1", allowed="1 20")]
        answer = self.asked([*cut, at("loft", "desk1", pvid=20)], desks=(2, 1))
        self.assertEqual(answer.findings[0].rule, "port-vlan-wrong")
        self.assertEqual(self.mends(answer)[0], "ports keel t1: allowed = 1 10 20")
        renamed = [other for other in answer.findings[0].alternatives if other.changes[0].table == "hosts"]
        self.assertTrue(renamed)

    def test_the_way_marks_a_link_only_where_it_lacks_the_vlan_that_passes(self):
        answer = self.asked([at("keel", "t1", allowed="1 20")], target="till-loft-1")
        marked = [(hop.name, hop.vid) for hop in answer.path if "link-vlan-missing" in hop.faults]
        self.assertEqual(marked, [("keel", 10)])


class Natives(unittest.TestCase):
    """Four switches in a row, one link of which has different native VLANs at its ends."""

    def asked(self, *natives, middle=(10, 20), lists="10 20", pc=10, far=None):
        """What is told where the middle link has two natives, and the links at its sides have these."""
        first, last = natives
        rows = [
            f"a up trunk {first} 10 20",
            f"b down trunk {first} 10 20",
            f"b up trunk {middle[0]} {lists}",
            f"c down trunk {middle[1]} {far or lists}",
            f"c up trunk {last} 10 20",
            f"d down trunk {last} 10 20",
        ]
        network = network_of(
            devices="device|capabilities\na|bridge\nb|bridge\nc|bridge\nd|bridge",
            ports=ports(*rows, f"a pc access {pc}", f"d pc access {pc}"),
            neighbors=cabled("a up b down", "b up c down", "c up d down"),
            hosts=hosts("near 10.9.10.20/24 none a pc", "far 10.9.10.21/24 none d pc"),
        )
        self.checked = [f for f in check(network).findings if f.rule == "link-native-differs"]
        if not far:
            (fault,) = why(network, "near", "far").findings
            self.assertEqual(fault.rule, "link-native-differs")
            return fault, why(network, "near", "far").confidence
        return None

    def test_what_most_links_have_is_the_sites_habit(self):
        for vid, port in ((10, "c down"), (20, "b up")):
            fault, sure = self.asked(vid, vid)
            self.assertEqual([str(c) for c in fault.repair], [f"ports {port}: pvid = {vid}"])
            self.assertIn("2 of 2 other links have it so", fault.alternatives[0].because)
            self.assertEqual(sure, "likely")

    def test_a_vlan_that_only_this_link_names_is_its_native(self):
        fault, sure = self.asked(1, "none", middle=(99, 20), lists="10 20 99", pc=20)
        self.assertEqual(([str(c) for c in fault.repair], sure), (["ports c down: pvid = 99"], "likely"))
        fault, sure = self.asked(1, "none", middle=(99, 20), lists="1-4094", pc=20)
        self.assertEqual(sure, "open")

    def test_what_one_of_several_has_is_none(self):
        fault, sure = self.asked(10, "none")
        self.assertEqual((sure, len(fault.alternatives)), ("open", 2))
        self.assertEqual([(f.repair, len(f.alternatives)) for f in self.checked], [((), 2)])  # check tells both, too

    def test_a_list_without_it_and_no_native_went_together(self):
        for vid in (10, 30):
            self.asked(1, 99, middle=(vid, "none"), lists=f"10 20 {vid}", far="20", pc=20)
            self.assertEqual([str(f.repair[0])[:14] for f in self.checked], ["ports c down: "])
            self.assertEqual([f.repair[0].cells["pvid"] for f in self.checked], [vid])


class Equals(unittest.TestCase):
    """What decides where facts do not: the fewest faults, or nobody."""

    def asked(self, source, target, **tables):
        network = network_of(**tables)
        answer = why(network, source, target)
        told = [tuple(map(str, one.changes)) for finding in answer.findings for one in finding.alternatives]
        return answer, [str(change) for change in answer.repair], told

    def test_a_vlan_that_no_list_names_is_a_slip(self):
        """Two of one subnet in two VLANs: links name the one, and nothing but a port the other."""
        rows = [
            f"{at} trunk none {vids}"
            for vids, pair in (("1-4094", ("keel t1", "loft t1")), ("10 30", ("keel t2", "hut t1")))
            for at in pair
        ]
        for near, far in ((30, 44), (44, 30)):
            answer, mends, _ = self.asked(
                "a",
                "b",
                devices="device|capabilities|routing\nkeel|bridge|no\nloft|bridge|no\nhut|bridge|no",
                ports=ports(*rows, f"keel p1 access {near}", f"loft p1 access {far}"),
                neighbors=cabled("keel t1 loft t1", "keel t2 hut t1"),
                hosts=hosts("a 10.9.10.20/24 none keel p1", "b 10.9.10.21/24 none loft p1"),
            )
            slip = "keel" if near == 44 else "loft"
            self.assertEqual((mends, answer.confidence), ([f"ports {slip} p1: pvid = 30"], "likely"))

    def test_one_host_and_the_port_towards_its_gateway_disagree(self):
        _, mends, told = self.asked(
            "a", "b", devices="device|capabilities|routing\nkeel|bridge|no\nr1|router|yes",
            ports=ports("keel p0 access 40", "keel p1 access 10", "keel p2 access 10", "keel p3 access 10",
                        "r1 g1 routed none", "r1 g2 routed none"),
            neighbors=cabled("keel p2 r1 g1", "keel p3 r1 g2"),
            gateways=ROUTER + "r1|g1|10.9.40.1/24||g1|yes|up|up|no\nr1|g2|10.9.10.1/24||g2|yes|up|up|no",
            hosts=hosts("a 10.9.40.20/24 10.9.40.1 keel p0", "b 10.9.10.21/24 10.9.10.1 keel p1"),
        )  # fmt: skip
        both = {("ports keel p0: pvid = 10",), ("ports keel p2: pvid = 40",)}
        self.assertEqual(both & {tuple(mends), *told}, both)

    def test_a_subnet_that_is_scattered_may_belong_where_nobody_is(self):
        """Links name VLAN 60, in which nobody is; of two of one subnet each is alone among strangers."""
        rows = ["keel t1 trunk none 10 20 60", "loft t1 trunk none 10 20 60", "keel p1 access 10", "loft p1 access 20"]
        more = ["keel p2 access 10", "loft p2 access 20"]
        answer, _, told = self.asked(
            "a", "b", devices="device|capabilities|routing\nkeel|bridge|no\nloft|bridge|no",
            ports=ports(*rows, *more), neighbors=cabled("keel t1 loft t1"),
            hosts=hosts("a 10.9.60.20/24 none keel p1", "b 10.9.60.21/24 none loft p1",
                        "c 10.9.10.20/24 none keel p2", "d 10.9.20.21/24 none loft p2"),
        )  # fmt: skip
        self.assertIn({"ports keel p1: pvid = 60", "ports loft p1: pvid = 60"}, map(set, told))
        self.assertNotEqual(answer.confidence, "sure")

    def test_of_two_lost_gateways_of_one_subnet_either_may_be_the_one_to_put_back(self):
        _, mends, told = self.asked(
            "a", "c", devices="device|capabilities|routing\nkeel|bridge router|yes",
            ports=ports("keel p0 access 40", "keel p1 access 40", "keel p2 access 10"),
            gateways=ROUTER + "keel|vlan10|10.9.10.1/24|10|||up|up|no",
            hosts=hosts("a 10.9.40.20/24 10.9.40.7 keel p0", "b 10.9.40.21/24 10.9.40.1 keel p1",
                        "c 10.9.10.21/24 10.9.10.1 keel p2"),
        )  # fmt: skip
        every = [set(one) for one in (mends, *told)]
        self.assertTrue(any("hosts a: gateway = 10.9.40.1" in one for one in every))
        self.assertTrue(any(change.startswith("gateways keel vlan40 10.9.40.7") for one in every for change in one))

    def test_no_gateway_is_made_up_where_nobody_uses_one(self):
        """A VLAN has no gateway by design, and one of its hosts has an address of another subnet."""
        answer, mends, _ = self.asked(
            "a", "b", devices="device|capabilities|routing\nkeel|bridge router|yes",
            ports=ports("keel p0 access 40", "keel p1 access 40", "keel p2 access 10", "keel p3 access 10"),
            gateways=ROUTER + "keel|vlan10|10.9.10.1/24|10|||up|up|no",
            hosts=hosts("a 10.9.10.20/24 none keel p0", "b 10.9.40.21/24 none keel p1",
                        "c 10.9.10.21/24 10.9.10.1 keel p2", "d 10.9.10.22/24 10.9.10.1 keel p3"),
        )  # fmt: skip
        self.assertEqual(mends, ["hosts a: address = 10.9.40.2/24"])
        self.assertTrue(answer.repair_proven)

    def test_a_route_to_a_subnet_tells_how_long_its_prefix_is(self):
        """One interface with a prefix of its own, against the route that another router has to that subnet."""
        gateways = "keel|vlan10|10.9.10.1/27|10|||up|up|no\nkeel|vlan30|10.9.30.1/29|30|||up|up|no\n"
        _, mends, told = self.asked(
            "a", "b", devices="device|capabilities|routing\nkeel|bridge router|yes\nr1|router|yes",
            ports=ports("keel p0 access 10", "keel p1 access 20", "keel p2 access 20", "keel p3 access 30",
                        "r1 g1 routed none", "r1 g2 routed none"),
            neighbors=cabled("keel p2 r1 g1", "keel p3 r1 g2"),
            gateways=ROUTER + gateways + "r1|g1|10.9.20.1/24||g1|yes|up|up|no\nr1|g2|10.9.30.2/29||g2|yes|up|up|no",
            routes="device|prefix|next_hop|interface|origin\nr1|10.9.10.0/24|10.9.30.1|g2|static\n"
                   "keel|10.9.20.0/24|10.9.30.2|vlan30|static",
            hosts=hosts("a 10.9.77.20/24 10.9.10.1 keel p0", "b 10.9.20.20/24 10.9.20.1 keel p1"),
        )  # fmt: skip
        lengths = {
            change.rpartition("/")[2] for one in (mends, *told) for change in one if change.startswith("hosts a: a")
        }
        self.assertEqual(lengths, {"24", "27"})

    def test_a_host_without_an_address_gets_one_of_the_subnet_that_it_is_to_talk_to(self):
        tables = {
            "devices": "device|capabilities|routing\nkeel|bridge|no",
            "ports": ports(*(f"keel p{n} access 30" for n in range(3))),
            "hosts": hosts("a 10.9.10.1/24 none keel p0", "b 10.9.20.1/24 none keel p1", "c none none keel p2"),
        }
        for far, subnet, other in (("a", 10, 20), ("b", 20, 10)):
            answer, mends, told = self.asked("c", far, **tables)
            self.assertEqual((mends, answer.confidence), ([f"hosts c: address = 10.9.{subnet}.2/24"], "open"))
            self.assertIn((f"hosts c: address = 10.9.{other}.2/24",), [one[:1] for one in told])

    def test_routers_among_themselves_are_not_all_at_an_end_of_their_subnet(self):
        """A route leads to the last address of a transit subnet, and the other router has another one there."""
        answer, _, told = self.asked(
            "a", "b", devices="device|capabilities|routing\nkeel|bridge|no\nr1|router|yes\nr2|router|yes",
            ports=ports(*(f"keel p{n} access {vid}" for n, vid in enumerate((10, 20, 10, 20, 30, 30))),
                        *(f"r{n} g{m} routed none" for n in (1, 2) for m in (1, 2))),
            neighbors=cabled("keel p2 r1 g1", "keel p3 r2 g1", "keel p4 r1 g2", "keel p5 r2 g2"),
            gateways=ROUTER + "r1|g1|10.9.10.254/24||g1|yes|up|up|no\nr1|g2|10.9.30.1/29||g2|yes|up|up|no\n"
                              "r2|g1|10.9.20.254/24||g1|yes|up|up|no\nr2|g2|10.9.30.4/29||g2|yes|up|up|no",
            routes="device|prefix|next_hop|interface|origin\nr1|10.9.20.0/24|10.9.30.6|g2|static\n"
                   "r2|10.9.10.0/24|10.9.30.1|g2|static",
            hosts=hosts("a 10.9.10.20/24 10.9.10.254 keel p0", "b 10.9.20.20/24 10.9.20.254 keel p1"),
        )  # fmt: skip
        self.assertEqual(answer.confidence, "open")
        self.assertIn(("gateways r2 g2 10.9.30.4/29: address = 10.9.30.6/29",), told)
        self.assertTrue(any("routes r1 10.9.20.0/24 10.9.30.4: " in change for one in told for change in one))

    def test_a_host_does_not_belong_between_routers_though_one_of_them_has_another_address_by_now(self):
        """A host is in a transit subnet by address and gateway; the router that sends there is mistyped itself."""
        _, mends, told = self.asked(
            "a", "b", devices="device|capabilities|routing\nkeel|bridge|no\nr1|router|yes\nr2|router|yes",
            ports=ports(*(f"keel p{n} access {vid}" for n, vid in enumerate((20, 20, 10, 20, 30, 30, 10))),
                        *(f"r{n} g{m} routed none" for n in (1, 2) for m in (1, 2))),
            neighbors=cabled("keel p2 r1 g1", "keel p3 r2 g1", "keel p4 r1 g2", "keel p5 r2 g2"),
            gateways=ROUTER + "r1|g1|10.9.10.1/24||g1|yes|up|up|no\nr1|g2|10.9.30.1/29||g2|yes|up|up|no\n"
                              "r2|g1|10.9.20.1/24||g1|yes|up|up|no\nr2|g2|10.8.30.2/29||g2|yes|up|up|no",
            routes="device|prefix|next_hop|interface|origin\nr1|10.9.20.0/24|10.9.30.2|g2|static\n"
                   "r2|10.9.10.0/24|10.9.30.1|g2|static",
            hosts=hosts("a 10.9.30.3/29 10.9.30.1 keel p0", "b 10.9.20.20/24 10.9.20.1 keel p1",
                        "c 10.9.10.20/24 10.9.10.1 keel p6"),
        )  # fmt: skip
        self.assertEqual(mends, ["hosts a: address = 10.9.20.2/24, gateway = 10.9.20.1"])
        self.assertTrue(any(change == "ports keel p0: pvid = 30" for one in told for change in one))

    def test_a_vlan_is_empty_without_its_host_though_another_has_a_wrong_address_of_its_subnet(self):
        answer, mends, _ = self.asked(
            "a", "c", devices="device|capabilities|routing\nkeel|bridge|no\nr1|router|yes",
            ports=ports(*(f"keel p{n} access {vid}" for n, vid in enumerate((20, 10, 10, 30, 30))),
                        "keel t trunk none 10 20 30", "r1 g1 routed none"),
            neighbors=cabled("keel t r1 g1"),
            gateways=ROUTER + "\n".join(f"r1|i{v}|10.9.{v}.1/24|{v}|g1|no|up|up|no" for v in (10, 20, 30)),
            hosts=hosts("a 10.9.10.9/24 10.9.10.1 keel p0", "b 10.9.10.20/24 10.9.10.1 keel p1",
                        "c 10.9.10.21/24 10.9.10.1 keel p2", "d 10.9.20.30/24 10.9.30.1 keel p3",
                        "e 10.9.30.31/24 10.9.30.1 keel p4"),
        )  # fmt: skip
        self.assertEqual(
            (mends, answer.confidence), (["hosts a: address = 10.9.20.2/24, gateway = 10.9.20.1"], "likely")
        )

    def test_a_port_for_whose_move_speaks_little_is_not_moved_for_sure(self):
        """The host's own gateway is of a subnet that nobody knows, and it alone is in its VLAN, which a link names."""
        answer, mends, _ = self.asked(
            "a", "b", devices="device|capabilities|routing\nkeel|bridge|no\nr1|router|yes",
            ports=ports("keel p0 access 40", "keel p1 access 10", "keel p2 access 10", "keel p3 access 40",
                        "r1 g1 routed none", "r1 g2 routed none"),
            neighbors=cabled("keel p2 r1 g1", "keel p3 r1 g2"),
            gateways=ROUTER + "r1|g1|10.9.10.1/24|10|g1|yes|up|up|no",
            hosts=hosts("a 10.9.10.20/24 10.9.40.1 keel p0", "b 10.9.10.21/24 10.9.10.1 keel p1"),
        )  # fmt: skip
        self.assertEqual(mends, ["ports keel p0: pvid = 10"])
        self.assertEqual(answer.confidence, "likely")


class Clash(unittest.TestCase):
    def test_suspicions_that_give_one_interface_two_addresses_explain_nothing_together(self):
        answer = why(read_survey(DATA / "recorded" / "clash" / "survey.json.gz"), "host-5", "host-4")
        self.assertEqual({f.rule for f in answer.findings}, {"host-mask-differs", "host-address-missing"})


class Nowhere(unittest.TestCase):
    """Hosts of one subnet in several VLANs, and no gateway that would decide."""

    def asked(self, source, target, *rows):
        """`rows` are hosts with the last part of their address, its subnet, and their VLAN."""
        told = [row.split() for row in rows]
        network = network_of(
            devices="device|capabilities|routing\nkeel|bridge|no",
            ports=ports(*(f"keel p{n} access {vid}" for n, (*_, vid) in enumerate(told))),
            hosts=hosts(*(f"{name} 10.9.{subnet}/24 none keel p{n}" for n, (name, subnet, _) in enumerate(told))),
        )
        answer = why(dataclasses.replace(network.told, info=Info()), source, target)  # no gateway was read
        return answer, [tuple(map(str, one.changes)) for finding in answer.findings for one in finding.alternatives]

    def test_of_three_vlans_none_is_chosen_and_each_is_told(self):
        answer, told = self.asked("a", "b", "a 10.1 30", "b 10.2 40", "c 10.3 50", "x 20.1 30", "y 20.2 30")
        self.assertEqual((answer.repair, answer.confidence), ((), "open"))
        self.assertIn(("ports keel p0: pvid = 50", "ports keel p1: pvid = 50"), told)
        self.assertFalse(any("pvid = 30" in change for changes in told for change in changes))  # others live there

    def test_the_only_vlan_without_strangers_is_told_and_not_chosen_by_one_witness(self):
        answer, told = self.asked("a", "b", "a 10.1 30", "b 10.2 40", "x 20.1 30", "y 20.2 30")
        self.assertEqual((answer.repair, answer.confidence), ((), "open"))
        self.assertEqual(told, [("ports keel p0: pvid = 40",)])

    def test_a_gateway_that_serves_it_and_is_used_is_more_than_one_witness(self):
        network = network_of(
            devices="device|capabilities|routing\nkeel|bridge router|yes",
            ports=ports("keel p1 access 30", "keel p2 access 20"),
            gateways=ROUTER + "keel|vlan10|10.9.10.1/24|10|||up|up|no\nkeel|vlan20|10.9.20.1/24|20|||up|up|no",
            hosts=hosts("a 10.9.10.20/24 10.9.10.1 keel p1", "b 10.9.20.20/24 10.9.20.1 keel p2"),
        )
        answer = why(network, "a", "b")
        self.assertEqual([str(c) for c in answer.repair], ["ports keel p1: pvid = 10"])
        self.assertEqual((len(answer.findings[0].alternatives[0].because), answer.confidence), (2, "sure"))

    def test_a_gateway_of_another_subnet_is_one_more_explanation(self):
        network = network_of(
            devices="device|capabilities|routing\nkeel|bridge|no\ncrane|router|yes",
            ports=ports("keel p1 access 10", "keel p2 access 30", "keel t1 access 10", "keel t2 access 20",
                        "crane g1 routed none", "crane g2 routed none"),
            neighbors=cabled("keel t1 crane g1", "keel t2 crane g2"),
            gateways=ROUTER + "crane|g1|10.9.10.1/24||g1|yes|up|up|no\ncrane|g2|10.9.20.1/24||g2|yes|up|up|no",
            hosts=hosts("a 10.9.10.20/24 10.9.10.1 keel p1", "b 10.9.10.21/24 10.9.20.1 keel p2"),
        )  # fmt: skip
        answer = why(network, "a", "b")
        self.assertEqual([str(c) for c in answer.repair], ["ports keel p2: pvid = 10"])
        others = [str(c) for one in answer.findings[0].alternatives for c in one.changes if c.table == "hosts"]
        self.assertIn("hosts b: address = 10.9.20.2/24", others)
        self.assertNotEqual(answer.confidence, "sure")


class Elsewhere(unittest.TestCase):
    """A host's own facts against what would do for a pair."""

    def answers(self, pair, complete=True, **tables):
        survey = network_of(**tables).told
        survey = survey if complete else dataclasses.replace(survey, info=Info())
        found = {finding.rule: finding for finding in check(survey).findings}
        return [why(survey, *ordered) for ordered in (pair, pair[::-1])], found

    def test_others_in_a_vlan_who_belong_elsewhere_make_nobody_a_stranger_there(self):
        answers, _ = self.answers(
            ("a", "b"), complete=False, devices="device|capabilities|routing\nloft|bridge|no\nkeel|bridge|no",
            ports=ports("loft t1 trunk 1 all", "keel t1 trunk 1 all", "loft p1 access 40", "loft p2 access 50",
                        "keel p1 access 40", "keel p2 access 60", "loft p3 access 60"),
            neighbors=cabled("loft t1 keel t1"),
            hosts=hosts("a 10.9.20.5/24 none loft p1", "b 10.9.20.6/24 none loft p2", "lost 10.9.60.7/24 none keel p1",
                        "d 10.9.60.8/24 none keel p2", "e 10.9.60.9/24 none loft p3"),
        )  # fmt: skip
        for answer in answers:
            (told,) = answer.findings
            self.assertEqual((answer.confidence, told.repair), ("open", ()))
            meant = {str(change) for one in told.alternatives for change in one.changes}
            self.assertEqual(meant, {"ports loft p1: pvid = 50", "ports loft p2: pvid = 40"})

    def test_nobody_is_renumbered_because_what_is_missing_cannot_be_mended(self):
        answers, found = self.answers(
            ("one", "astray"), devices="device|capabilities|routing\nloft|bridge|no\nkeel|bridge|no\ncrane|router|yes",
            ports=ports("loft t1 trunk 1 all", "keel t1 trunk 1 all", "keel t9 access 10", "crane g1 routed none",
                        "loft p1 access 20", "keel p1 access 10", "keel p2 access 20", "loft p2 access 20"),
            neighbors=cabled("loft t1 keel t1", "keel t9 crane g1"),
            gateways=f"{ROUTER}crane|g1.10|10.9.10.1/24|10|g1|yes|up|up|no",
            hosts=hosts("near 10.9.10.5/24 10.9.10.1 keel p1", "astray 10.9.10.6/24 10.9.10.1 loft p2",
                        "one 10.9.20.7/24 10.9.20.1 loft p1", "two 10.9.20.8/24 10.9.20.1 keel p2"),
        )  # fmt: skip
        for answer in answers:
            mends = {finding.rule: [str(change) for change in finding.repair] for finding in answer.findings}
            self.assertEqual(mends, {"gateway-missing": [], "port-vlan-wrong": ["ports loft p2: pvid = 10"]})
            self.assertFalse(answer.repair_proven)
            self.assertLessEqual(
                {finding.identity for finding in answer.findings}, {f.identity for f in found.values()}
            )

    def lone(self, address, gateway, more=""):
        return self.answers(
            ("lone", "b"),
            devices="device|capabilities|routing\nkeel|bridge router|yes",
            ports=ports("keel p1 access 10", "keel p2 access 20"),
            gateways=f"{ROUTER}keel|vlan20|10.9.20.1/24|20|||up|up|no{more}",
            hosts=hosts(f"lone {address} {gateway} keel p1", "b 10.9.20.20/24 10.9.20.1 keel p2"),
        )

    def test_a_gateway_at_the_end_of_a_wider_subnet_tells_that_a_prefix_is_too_long(self):
        answers, _ = self.lone("10.9.10.22/30", "10.9.10.62")
        for answer in answers:
            self.assertEqual(
                {str(change) for change in answer.repair},
                {
                    "hosts lone: address = 10.9.10.22/26",
                    "gateways keel vlan10 10.9.10.62/26: vid = 10, admin = up, oper = up, proxy_arp = no",
                },
            )
            self.assertTrue(answer.repair_proven)
            told = next(finding for finding in answer.findings if finding.rule == "host-mask-differs")
            self.assertIn("10.9.10.62 as its gateway, which is in 10.9.10.0/26 like the host itself", told.says)

    def test_no_gateway_is_made_up_for_whoever_asks_elsewhere(self):
        within = "\nkeel|vlan30|10.9.10.41/29|30|||up|up|no"  # another subnet lives in the wider one
        for gateway, more in (("10.9.10.60", ""), ("10.9.10.62", within)):
            answers, found = self.lone("10.9.10.22/30", gateway, more)
            self.assertEqual([(answer.confidence, answer.repair) for answer in answers], [("open", ())] * 2)
            self.assertEqual(found["gateway-missing"].repair, ())

    def test_an_interface_of_a_subnet_of_nobody_is_the_lost_gateway_where_routes_lead_there(self):
        routes = "device|prefix|next_hop|interface\ncrane|10.9.30.0/24|10.9.50.2|g2\nkeel|10.9.20.0/24|10.9.50.1|vlan50"
        away = routes.replace("10.9.30.0", "10.9.31.0")
        for hop, led, told in (("10.9.77.1", routes, True), ("10.9.77.1", away, False), ("none", routes, True)):
            answers, found = self.answers(
                ("lone", "desk"), devices="device|capabilities|routing\nkeel|bridge router|yes\ncrane|router|yes",
                ports=ports("keel p1 access 30", "keel p2 access 20", "keel t8 access 20", "keel t9 access 50",
                            "crane g1 routed none", "crane g2 routed none"),
                neighbors=cabled("keel t8 crane g1", "keel t9 crane g2"),
                gateways=f"{ROUTER}keel|vlan30|10.8.44.6/24|30|||up|up|no\nkeel|vlan50|10.9.50.2/29|50|||up|up|no\n"
                         "crane|g1|10.9.20.1/24||g1|yes|up|up|no\ncrane|g2|10.9.50.1/29||g2|yes|up|up|no",
                hosts=hosts(f"lone 10.9.30.7/24 {hop} keel p1", "desk 10.9.20.9/24 10.9.20.1 keel p2"), routes=led,
            )  # fmt: skip
            for answer in answers:
                self.assertEqual(answer.repair_proven, told)
                self.assertEqual({str(change) for change in answer.repair}, {
                    "gateways keel vlan30 10.8.44.6/24: address = 10.9.30.1/24", "hosts lone: gateway = 10.9.30.1",
                } if told else set())  # fmt: skip
                facts = {(f.column, f.source) for one in answer.findings for f in one.evidence if f.key.get("device")}
                self.assertEqual(("address", "once mended") in facts, told)
            says = found["gateway-missing"].says if hop != "none" else ""  # else it may have none by design
            self.assertEqual("has 10.8.44.6/24, and nobody else is in that subnet" in says, told and hop != "none")

    def test_a_vlan_without_a_gateway_by_design_gets_none_for_a_host_that_belongs_elsewhere(self):
        _, found = self.answers(
            ("shed", "slip"), devices="device|capabilities|routing\nkeel|bridge router|yes",
            ports=ports("keel p1 access 30", "keel p2 access 30", "keel p3 access 20", "keel p4 access 20"),
            gateways=f"{ROUTER}keel|vlan20|10.9.20.1/24|20|||up|up|no",
            hosts=hosts("shed 10.9.30.5/28 none keel p1", "slip 10.9.30.6/28 none keel p2",
                        "lost 10.9.30.7/28 10.9.20.1 keel p3", "desk 10.9.20.9/24 10.9.20.1 keel p4"),
        )  # fmt: skip
        mends = [(rule, str(change)) for rule, finding in found.items() for change in finding.repair]
        self.assertEqual(mends, [("host-outside-subnet", "hosts lost: address = 10.9.20.2/24")])

    def test_of_natives_the_one_that_other_trunks_tag_is_where_a_scattered_subnet_may_belong(self):
        rows = [f"{end} trunk 61 10 20 60 61" for end in ("keel t1", "loft t1", "keel t2", "hut t2")]
        rows += [f"{end} trunk 60 10 20 60" for end in ("loft t3", "hut t3")]
        rows += [
            f"{switch} {port} access {vid}" for switch, vid in (("keel", 10), ("loft", 20)) for port in ("p1", "p2")
        ]
        answers, _ = self.answers(
            ("a", "b"),
            complete=False,
            devices="device|capabilities|routing\nkeel|bridge|no\nloft|bridge|no\nhut|bridge|no",
            ports=ports(*rows),
            neighbors=cabled("keel t1 loft t1", "keel t2 hut t2", "loft t3 hut t3"),
            hosts=hosts(*(f"{name} 10.9.{end} none {at}" for name, end, at in HOMES)),
        )
        for answer in answers:
            meant = {
                str(change) for finding in answer.findings for one in finding.alternatives for change in one.changes
            }
            self.assertLessEqual({"ports keel p1: pvid = 60", "ports loft p1: pvid = 60"}, meant)
            self.assertEqual(answer.repair, ())  # a gateway that nobody read would decide

    def test_a_vlan_that_is_nowhere_but_at_one_port_is_left_for_that_of_the_others(self):
        """Its gateway was not read, and would decide, were it not that nobody can work with the host where it is."""
        there = "device|vid|mac|port|kind\nkeel|46|02:00:00:00:00:01|p1|learned"
        more = f"{there}\nkeel|46|02:00:00:00:09:09|p1|learned"  # somebody else would move with it
        mend = ("ports keel p1: pvid = 53",)
        for allowed, macs, mends in (("53 60", there, mend), ("1-4094", there, mend), ("53 60", more, ())):
            rows = [f"keel t1 trunk none {allowed}", "loft t1 trunk none 53 60", "hut t1 trunk none 53 60"]
            answers, _ = self.answers(
                ("a", "b"),
                complete=False,
                devices="device|capabilities|routing\nkeel|bridge|no\nloft|bridge|no\nhut|bridge|no",
                ports=ports(
                    *rows, "loft t2 trunk none 53 60", "keel p1 access 46", *(f"loft p{n} access 53" for n in (1, 2))
                ),
                neighbors=cabled("keel t1 loft t1", "loft t2 hut t1"),
                macs=macs,
                hosts=hosts("a 10.9.5.1/24 none keel p1", "b 10.9.5.2/24 none loft p1", "c 10.9.5.3/24 none loft p2"),
            )
            self.assertEqual([tuple(map(str, answer.repair)) for answer in answers], [mends] * 2)

    def test_a_lost_interface_was_at_the_router_whose_trunk_names_its_vlan(self):
        answers, _ = self.answers(
            ("a", "b"),
            devices="device|capabilities|routing\nkeel|bridge|no\nr1|router|yes\nr2|router|yes",
            ports=ports(
                "keel p1 access 10",
                "keel p2 access 20",
                "keel t1 trunk none 10 90",
                "keel t2 trunk none 1-4094",
                "r1 e1 routed none",
                "r2 e1 routed none",
            ),
            neighbors=cabled("keel t1 r1 e1", "keel t2 r2 e1"),
            gateways=f"{ROUTER}r2|e1.20|10.9.20.1/24|20|e1|no|up|up|no\nr2|e1.90|10.9.90.2/29|90|e1|no|up|up|no\n"
            "r1|e1.90|10.9.90.1/29|90|e1|no|up|up|no",
            routes="device|prefix|next_hop|interface\nr1|0.0.0.0/0|10.9.90.2|e1.90\nr2|10.9.77.0/24|10.9.90.1|e1.90",
            hosts=hosts("a 10.9.10.20/24 10.9.10.1 keel p1", "b 10.9.20.21/24 10.9.20.1 keel p2"),
        )
        for answer in answers:
            told = [change.key["device"] for finding in answer.findings for change in finding.repair]
            self.assertEqual(sorted(told), ["r1", "r2"])

    def test_who_gets_another_subnet_gets_the_gateway_that_its_hosts_ask_for(self):
        """A till at a desk's port asks for the usual address, which the interface lost; a desk is at a till's port."""
        odd = [interface("crane", "g1.20", 20, address="10.9.20.77/24"), at("loft", "till1", pvid=10)]
        survey = apply_changes(yard((1, 1), (1, 0)), [*odd, at("keel", "desk1", pvid=20)])
        for answer in (why(survey, "desk-keel-1", "desk-loft-1"), why(survey, "desk-loft-1", "desk-keel-1")):
            every = [change for finding in answer.findings for one in finding.alternatives for change in one.changes]
            hops = {change.cells["gateway"] for change in every if change.key.get("host") == "desk-keel-1"}
            self.assertEqual(hops, {"10.9.20.1"})

    def test_of_two_ports_that_were_swapped_each_goes_back(self):
        swapped = [at("loft", "desk1", pvid=20), at("loft", "till1", pvid=10)]
        for style in ("stick", "own", "ports"):
            answer = why(apply_changes(yard((1, 1), (1, 0), style), swapped), "till-loft-1", "desk-loft-1")
            self.assertEqual(
                {c.key["port"]: c.cells for c in answer.repair}, {"desk1": {"pvid": 10}, "till1": {"pvid": 20}}
            )

    def test_nobody_is_renumbered_into_the_subnet_between_two_routers(self):
        for pair in (("host-7", "host-6"), ("host-6", "host-3")):
            self.assertIn("ports sw-c e6: pvid = 97", map(str, why(DATA / "half" / "981057", *pair).repair))

    def test_a_subnet_that_nobody_routes_stays_so_as_that_may_be_meant(self):
        """Unless the plan has a gateway for it; and what is wrong besides is mended."""
        tills = [host(f"till-{switch}-1", gateway="none") for switch in ("loft", "keel")]
        key = {"device": "keel", "interface": "vlan20", "address": "10.9.20.1/24"}
        lone = apply_changes(yard((1, 1), (1, 1), "own"), [*tills, Change("gateways", key, {}, True)])
        shut = apply_changes(lone, [at("loft", "till1", admin="down", oper="down")])
        plan = plan_of('[vlans.20]\ngateways = ["10.9.20.1"]')
        for pair in permutations(("till-loft-1", "desk-keel-1")):
            answer = why(lone, *pair)
            self.assertEqual(([one.rule for one in answer.findings], answer.confidence, answer.repair),
                             (["subnet-unrouted"], "open", ()))  # fmt: skip
            self.assertIn("ask whether that subnet is meant to reach others", answer.decide[0])
            answer = why(shut, *pair)
            self.assertEqual({one.rule for one in answer.findings}, {"subnet-unrouted", "port-admin-down"})
            self.assertEqual({change.key.get("port") for change in answer.repair}, {"till1"})
            self.assertTrue(why(lone, *pair, plan=plan).repair_proven)


if __name__ == "__main__":
    unittest.main()
