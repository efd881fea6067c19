"""An interface that was given another one's address, or one of its subnet: it gets its own back, and is no fault twice.

So of routes that lead to an address where no wire is.
"""

import unittest
from itertools import permutations

from crossthread import Change, Network, apply_changes, check, matrix, why
from crossthread.demo import healthy
from crossthread.faces.scripts.commands import as_commands
from tests.building import cabled, hosts, network_of, ports
from tests.refusing import Refusing
from tests.yard import at, host, lost, quay, yard


def gateway(row, address):
    """The change that gives an interface another address."""
    return Change(
        "gateways", {"device": row.device, "interface": row.interface, "address": row.address}, {"address": address}
    )


def works(network, one, two):
    return why(network, one, two).verdict == "works"


class Misaddressed(unittest.TestCase):
    def assert_mended(self, survey, changes, pairs, expected, rule):
        """Each pair fails, and its mend is the expected one and no other; `check` says the same, once."""
        broken = apply_changes(survey, changes)
        network = Network(broken)
        for pair in pairs:
            answer = why(network, *pair)
            told = [(one.table, one.key, one.cells) for one in answer.repair]
            self.assertEqual((answer.verdict, told), ("fails", expected), pair)
            self.assertTrue(works(network.changed(answer.repair), *pair), pair)
        mends = [one for one in check(broken).findings if one.severity == "breaks" and one.repair]
        self.assertEqual([(one.rule, len(one.repair)) for one in mends], [(rule, len(expected))])

    def test_whose_address_another_interface_has_gets_the_one_that_its_hosts_ask_for(self):
        for style in ("own", "stick", "ports"):
            survey = yard(style=style, told=False)
            for here, there in permutations(survey.gateways[:2]):
                with self.subTest(f"{style} {here.interface}"):
                    wrong = gateway(here, there.address)
                    key = wrong.key | {"address": there.address}
                    mended = [("gateways", key, {"address": here.address})]
                    pairs = [("desk-loft-1", "till-keel-1"), ("till-loft-1", "desk-keel-1")]
                    self.assert_mended(survey, [wrong], pairs, mended, "gateway-address-wrong")

    def test_its_prefix_length_is_that_of_its_hosts_and_not_that_of_the_address(self):
        survey = yard(style="own")
        desks, tills = survey.gateways[:2]
        hosts = [Change("hosts", {"host": one.host}, {"address": one.address.replace("/24", "/25")})
                 for one in survey.hosts if one.host.startswith("till")]  # fmt: skip
        wrong = gateway(tills, desks.address)
        mended = [("gateways", wrong.key | {"address": desks.address}, {"address": "10.9.20.1/25"})]
        self.assert_mended(survey, [*hosts, wrong], [("desk-loft-1", "till-keel-1")], mended, "gateway-address-wrong")

    def test_between_two_routers_the_one_that_sends_to_it_is_not_the_one_that_has_it(self):
        survey = quay()
        near, far = (next(g for g in survey.gateways if g.interface == name) for name in ("vlan30", "e1"))
        for one, other in ((near, far), (far, near)):
            wrong = gateway(one, other.address)
            mended = [("gateways", wrong.key | {"address": other.address}, {"address": one.address})]
            self.assert_mended(survey, [wrong], [("desk-north", "store")], mended, "gateway-address-wrong")

    def test_where_hosts_ask_in_vain_an_address_of_anothers_subnet_is_wrong_too(self):
        survey = yard(desks=(1, 0), tills=(1, 2), style="own", told=False)
        wrong = gateway(survey.gateways[0], "10.9.20.7/24")
        answer = why(Network(apply_changes(survey, [wrong])), "desk-loft-1", "till-keel-1")
        self.assertEqual([one.cells for one in answer.repair], [{"address": "10.9.10.1/24"}])
        self.assertEqual(answer.repair[0].key["interface"], survey.gateways[0].interface)

    def test_a_prefix_by_which_a_host_would_be_the_broadcast_address(self):
        survey = yard(desks=(1, 1), tills=(1, 1), style="own")
        key = {"device": "keel", "interface": "vlan10", "address": "10.9.10.1/24"}
        desk = Change("hosts", {"host": "desk-keel-1"}, {"address": "10.9.10.31/24"})  # not the first of its kind
        wrong = [desk, Change("gateways", key, {"address": "10.9.10.1/27"})]
        mended = [("gateways", key | {"address": "10.9.10.1/27"}, {"address": "10.9.10.1/24"})]
        self.assert_mended(survey, wrong, [("till-keel-1", "desk-keel-1")], mended, "gateway-mask-differs")

    def test_of_the_port_that_a_host_is_plugged_into(self):
        (own,) = (g for g in healthy().gateways if g.interface == "port2")
        for odd in ("10.61.10.1/24", "10.61.70.2/30"):  # that of another interface, and of the very host
            wrong = gateway(own, odd)
            mended = [("gateways", wrong.key | {"address": odd}, {"address": own.address})]
            self.assert_mended(healthy(), [wrong], [("tide-gauge", "shop-till")], mended, "gateway-address-wrong")

    def test_each_others_if_a_name_says_that_it_is_not_the_tags(self):
        told, hosts = "gateway-address-wrong", ("desk-loft-1", "till-loft-1")
        museum = healthy(), "core-east", ("vlan10", "vlan20"), ("ticket-desk-1", "foghorn-exhibit"), told
        for survey, device, names, pair, rule in (
            museum,
            (yard(style="own"), "keel", ("vlan10", "vlan20"), hosts, told),
            (yard(), "crane", ("g1.10", "g1.20"), hosts, told),
            (yard(told=False), "crane", ("inner", "outer"), hosts, "gateway-vlan-wrong"),
        ):
            one, two = (next(g for g in survey.gateways if (g.device, g.interface) == (device, n)) for n in names)
            broken = apply_changes(survey, [gateway(one, two.address), gateway(two, one.address),
                                            Change("devices", {"device": device}, {"platform": "linux"})])  # fmt: skip
            answer = why(broken, *pair)
            self.assertEqual(([f.rule for f in answer.findings], answer.confidence), ([rule], "sure"))
            Refusing(broken).carry_out(answer.order)
            self.assertEqual(len(answer.repair), 3)
            mended = Network(apply_changes(broken, answer.repair))
            self.assertEqual(matrix(mended).reaches, matrix(survey).reaches)
            self.assertEqual([f.rule for f in check(broken).findings if f.severity == "breaks"], [rule])
            if rule == told:
                self.assertEqual(answer.order[0].says, f"{device} {names[0]}: clear its address")
                self.assertIn(
                    f"ip address del {two.address} dev {names[0]}\n", as_commands(Network(broken), answer.order)
                )

    def test_nobody_is_sent_to_himself(self):
        odd = Change("gateways", {"device": "quay-router", "interface": "port2", "address": "10.61.70.1/30"},
                     {"address": "10.61.70.2/30"})  # fmt: skip
        unread = Change("coverage", {"device": "core-west", "table": "gateways"}, {"complete": "no"})
        found = check(apply_changes(healthy(), [odd, unread])).findings
        self.assertNotIn("hosts tide-gauge: gateway = 10.61.70.2", [str(c) for one in found for c in one.repair])
        east, far = (next(g for g in quay().gateways if g.interface == name) for name in ("vlan30", "e1"))
        alone = Change("routes", {"device": "far", "prefix": "0.0.0.0/0", "next_hop": "10.9.30.1"}, delete=True)
        answer = why(Network(apply_changes(quay(), [alone, gateway(far, east.address)])), "desk-north", "store")
        self.assertNotIn(("east", "10.9.30.1"), [(c.key["device"], c.key.get("next_hop")) for c in answer.repair])

    def test_a_host_alone_in_its_vlan_or_without_a_gateway(self):
        survey = yard(desks=(1, 0), tills=(0, 1), style="ports")
        wrong = gateway(survey.gateways[0], survey.gateways[1].address)
        mended = [("gateways", wrong.key | {"address": "10.9.20.1/24"}, {"address": "10.9.10.1/24"})]
        self.assert_mended(survey, [wrong], [("till-keel-1", "desk-loft-1")], mended, "gateway-address-wrong")
        survey = yard(style="own", told=False)
        wrong = [gateway(survey.gateways[0], survey.gateways[1].address),
                 Change("hosts", {"host": "till-loft-1"}, {"gateway": "none"})]  # fmt: skip
        says = [one.says for one in check(apply_changes(survey, wrong)).findings if one.rule == "host-gateway-missing"]
        self.assertEqual(says, ["till-loft-1 has no gateway; 10.9.20.1 (keel outer) serves its subnet."])

    def test_a_host_without_a_gateway_lost_it_with_its_address(self):
        for hop, table in (("none", "hosts"), ("10.9.10.1", "ports")):
            moved = Change("hosts", {"host": "till-loft-1"}, {"address": "10.9.10.55/24", "gateway": hop})
            answer = why(apply_changes(yard(desks=(1, 1)), [moved]), "till-loft-1", "till-keel-1")
            told = {
                change.table for finding in answer.findings for one in finding.alternatives for change in one.changes
            }
            self.assertEqual((answer.repair[-1].table, told, answer.confidence), (table, {"hosts", "ports"}, "likely"))

    def test_an_interface_that_went_with_all_its_routes_is_where_the_other_router_sends_to(self):
        for third in (False, True):
            rows = ["rt-a|e1.10|10.9.10.1/24|10|e1", "rt-b|e1.20|10.9.20.1/24|20|e1", "rt-b|e1.99|10.9.99.3/29|99|e1"]
            rows += ["rt-c|e1.99|10.9.99.2/29|99|e1"] if third else []
            network = network_of(
                devices="device|capabilities|routing\ns|bridge|no\nrt-a|router|yes\nrt-b|router|yes\nrt-c|router|yes",
                ports=ports("s a access 10", "s b access 20", *(f"s t{r} trunk none 10 20 99" for r in "abc"),
                            *(f"rt-{r} e1 routed none" for r in "abc")),
                neighbors=cabled(*(f"s t{r} rt-{r} e1" for r in "abc")),
                gateways="\n".join(["device|interface|address|vid|port|untagged|admin|oper|proxy_arp",
                                    *(f"{row}|no|up|up|no" for row in rows)]),
                routes="device|prefix|next_hop|interface\nrt-b|10.9.10.0/24|10.9.99.1|e1.99",
                hosts=hosts("a 10.9.10.5/24 10.9.10.1 s a", "b 10.9.20.5/24 10.9.20.1 s b"),
            )  # fmt: skip
            told = [why(network, *pair).repair for pair in ("ab", "ba")]
            given = [[str(one.key.get("address")) for one in repair if one.table == "gateways"] for repair in told]
            self.assertEqual(given, [[], []] if third else [["10.9.99.1/29"]] * 2)  # another may be meant
            self.assertTrue(third or all(works(network.changed(repair), "a", "b") for repair in told))


class Twice(unittest.TestCase):
    """A host with an address that another has, who is cut off: by the mend of that, the two would meet."""

    def assert_nobody_stops(self, broken, answer):
        before, after = (
            {(a, b): verdict for a, b, verdict in matrix(one).reaches}
            for one in (broken, apply_changes(broken, answer.repair))
        )
        self.assertEqual([pair for pair, now in before.items() if now == "works" != after[pair]], [])

    def test_it_gives_the_address_back_before_the_other_is_reached(self):
        kiosk = host("visitor-kiosk", address="10.61.30.12/24")
        desk = host("foghorn-exhibit", address="10.61.20.1/24")
        for wrong, lacking, name, pair in (
            (kiosk, lost("galley", 30), "visitor-kiosk", ("ticket-desk-1", "galley-tablet")),
            (desk, lost("ropehall", 20), "foghorn-exhibit", ("ticket-desk-1", "foghorn-exhibit")),
        ):
            broken = apply_changes(healthy(), [wrong, lacking])
            answer = why(broken, *pair)
            self.assertEqual((answer.repair_proven, answer.costs), (True, ()), name)
            self.assertTrue(answer.order[0].says.startswith(f"{name}: set its address to"))
            self.assert_nobody_stops(broken, answer)
            mends = {change.table for one in check(broken).findings for change in one.repair}
            self.assertEqual(mends, {"hosts", "vlans"})

    def test_where_nothing_tells_whose_it_is_nobody_who_works_stops(self):
        survey = yard(desks=(3, 1), tills=(1, 0))
        (own,) = [row.address for row in survey.hosts if row.host == "desk-keel-1"]
        cut = [at("loft", "t1", allowed="1 20"), at("keel", "t1", allowed="1 20")]
        broken = apply_changes(survey, [host("desk-loft-1", address=own), *cut])
        answer = why(broken, "desk-loft-2", "till-loft-1")
        self.assertTrue(set(map(str, cut)).isdisjoint(map(str, answer.repair)))
        self.assertEqual(answer.confidence, "open")
        self.assert_nobody_stops(broken, answer)
        (link,) = [one for one in check(broken).findings if one.rule == "link-vlan-missing"]
        self.assertEqual(link.repair, ())
        self.assertIn("may stop to work by it", str(link.alternatives[0].against))


class Broadcasts(unittest.TestCase):
    def test_a_host_with_the_broadcast_address_of_its_subnet_or_of_a_prefix_that_is_too_long(self):
        for ends, rules in (("255/24 3/24", ["host-address-broadcast"]), ("127/25 3/25", ["host-mask-differs"] * 2)):
            rows = [f"h{n} 10.9.10.{own} none s p{n}" for n, own in enumerate([*ends.split(), "4/24", "5/24", "6/24"])]
            network = network_of(ports=ports(*(f"s p{n} access 10" for n in range(5))), hosts=hosts(*rows))
            answer = why(network, "h0", "h1")
            self.assertEqual([one.rule for one in answer.findings], rules)
            self.assertTrue(works(network.changed(answer.repair), "h0", "h1"))
        unread = Change("coverage", {"device": "s", "table": "gateways"}, {"complete": "no"})
        odd = network.changed([unread, host("h0", address="10.9.10.255/24")])
        self.assertTrue(why(odd, "h0", "h2").repair)  # another address of its subnet cuts nobody off

    def test_nobody_is_like_it_where_nobody_knows_the_place_of_either(self):
        rows = "host|address|gateway\na|10.9.10.255/24|none\nb|10.9.10.3/24|none\nc|10.9.10.4/24|none"
        classes = network_of(ports=ports("s p1 access 10"), hosts=rows).classes
        self.assertEqual([list(one.hosts.names) for one in classes.all], [["a"], ["b", "c"]])


class Hops(unittest.TestCase):
    def test_a_route_that_leads_to_an_address_on_no_wire_leads_to_its_router_on_the_right_one(self):
        for device, prefix, hop, odd, out, pair in (
            ("core-east", "10.61.40.0/24", "10.61.90.2", "10.61.40.1", "vlan90", ("paint-booth", "shop-till")),
            ("quay-router", "0.0.0.0/0", "10.61.90.1", "10.61.20.1", "port1.90", ("shop-till", "gate-camera")),
        ):
            own, wrong = ({"device": device, "prefix": prefix, "next_hop": one} for one in (hop, odd))
            cells = {"interface": out, "origin": "static"}
            network = Network(
                apply_changes(healthy(), [Change("routes", own, delete=True), Change("routes", wrong, cells)])
            )
            answer = why(network, *pair)
            self.assertEqual(
                sorted((one.delete, one.key["next_hop"]) for one in answer.repair), [(False, hop), (True, odd)]
            )
            self.assertTrue(works(network.changed(answer.repair), *pair))

    def test_of_a_route_out_of_an_interface_whose_port_is_down_the_port_is_told(self):
        for rule, cells in (("port-admin-down", {"admin": "down"}), ("port-down", {"oper": "down"})):
            shut = Change("ports", {"device": "quay-router", "port": "port1"}, cells)
            found = check(apply_changes(healthy(), [shut])).findings
            self.assertEqual([(one.rule, one.severity) for one in found], [(rule, "breaks")])


if __name__ == "__main__":
    unittest.main()
