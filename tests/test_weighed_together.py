"""Several faults in one way: each is told with what may be wrong instead, and none rests on what is not so."""

import re
import tempfile
import unittest
from pathlib import Path

from crossthread import Change, Network, apply_changes, check, matrix, why, why_all, write_survey
from crossthread.demo.generator import generate
from tests.building import cabled, hosts, network_of, ports
from tests.refusing import Refusing
from tests.test_command import run
from tests.yard import at, host, interface, quay, yard

LOST = Change("gateways", {"device": "crane", "interface": "g1.10", "address": "10.9.10.1/24"}, {}, True)


class Yard(unittest.TestCase):
    def asked(self, *changes, **shape):
        self.survey = apply_changes(yard(**shape), changes)
        answer = why(Network(self.survey), "desk-loft-1", "till-keel-1")
        self.assertTrue(answer.repair_proven)
        Refusing(self.survey).carry_out(answer.order)
        return answer

    def test_two_ports_of_a_router_in_one_vlan_are_one_too_many(self):
        answer = self.asked(at("keel", "t8", pvid=20), style="ports", desks=(1, 0))
        self.assertEqual([str(c) for c in answer.repair], ["ports keel t8: pvid = 10"])

    def test_who_has_no_gateway_gets_the_address_that_another_mend_gives_it(self):
        moved = [interface("crane", "g1.10", 10, address="10.9.10.77/24"), host("desk-loft-1", gateway="none")]
        survey = apply_changes(yard(desks=(1, 1)), moved)
        found = [str(change) for finding in check(survey).findings for change in finding.repair]
        for mends in (found, [*map(str, why_all(survey).repair)]):
            self.assertIn("gateways crane g1.10 10.9.10.77/24: address = 10.9.10.1/24", mends)
            self.assertEqual([m for m in mends if m.startswith("hosts")], ["hosts desk-loft-1: gateway = 10.9.10.1"])

    def test_a_prefix_that_leaves_out_the_interface_on_the_wire(self):
        lone = host("desk-loft-1", address="10.9.10.201/27", gateway="none")
        answer = self.asked(lone, desks=(1, 0))
        self.assertEqual({f.rule for f in answer.findings}, {"host-gateway-missing", "host-mask-differs"})
        self.assertEqual(
            {c: v for change in answer.repair for c, v in change.cells.items()},
            {"gateway": "10.9.10.1", "address": "10.9.10.201/24"},
        )
        beside = why(apply_changes(yard(desks=(2, 0)), [lone, host("desk-loft-2", address="10.9.10.202/27")]),
                     "desk-loft-1", "till-keel-1")  # fmt: skip
        self.assertNotIn("hosts desk-loft-1: address = 10.9.10.201/24", map(str, beside.repair))

    def test_of_a_host_without_address_its_port_and_that_of_its_gateway_are_weighed(self):
        lost = host("desk-loft-1", address="none")
        answer = self.asked(lost, at("keel", "t8", pvid=20), style="ports", desks=(1, 0))
        mends = [str(c) for c in answer.repair]
        self.assertIn("ports keel t8: pvid = 10", mends)
        self.assertEqual([mend for mend in mends if "pvid" in mend], ["ports keel t8: pvid = 10"])

    def test_a_prefix_without_way_out_is_that_of_whoever_shares_the_gateway(self):
        answer = self.asked(host("desk-loft-1", address="10.9.10.201/30"), LOST, desks=(1, 1))
        self.assertEqual([f.rule for f in answer.findings], ["host-mask-differs", "gateway-missing"])
        self.assertIn("hosts desk-loft-1: address = 10.9.10.201/24", map(str, answer.repair))
        given = [change.key["address"] for change in answer.repair if change.table == "gateways"]
        self.assertEqual(given, ["10.9.10.1/24"])  # the address that both ask for, of the subnet that both are in

    def test_and_rather_that_of_the_gateway_itself_than_of_one_other_who_uses_it(self):
        wrong = host("desk-loft-1", address="10.9.10.101/30"), host("desk-keel-1", address="10.9.10.21/25")
        answer = self.asked(*wrong, desks=(1, 1))
        self.assertEqual([str(c) for c in answer.repair], ["hosts desk-loft-1: address = 10.9.10.101/24"])

    def test_who_has_the_gateway_of_another_subnet_is_no_witness_of_its_address(self):
        wrong = Change("gateways", LOST.key, {"address": "10.9.10.34/24"}), host("till-keel-2", gateway="10.9.10.34")
        answer = self.asked(*wrong, desks=(1, 0), tills=(1, 2))
        self.assertEqual([change.table for change in answer.repair], ["gateways"])

    def test_a_tag_that_a_lost_interface_is_to_have_is_given_up_before(self):
        answer = self.asked(LOST, interface("crane", "g1.20", 20, vid=10))
        self.assertEqual([step.changes[0].key["interface"] for step in answer.order], ["g1.20", "g1.10"])

    def test_a_gateway_that_looks_changed_is_given_to_nobody_for_sure(self):
        odd = interface("crane", "g1.10", 10, address="10.9.10.77/24")
        answer = self.asked(host("desk-loft-1", gateway="none"), odd, desks=(1, 0))
        self.assertEqual([str(c) for c in answer.repair], ["hosts desk-loft-1: gateway = 10.9.10.77"])
        (told,) = answer.findings[0].alternatives[0].against
        self.assertEqual((answer.confidence, "10.9.10.77" in told), ("likely", True))
        plain = self.asked(host("desk-loft-1", gateway="none"), desks=(1, 0))
        self.assertEqual((plain.confidence, plain.findings[0].alternatives[0].against), ("sure", ()))

    def test_a_vlan_that_trunks_carry_and_nobody_serves_may_be_meant(self):
        astray, lists = at("loft", "desk1", pvid=30), [at(d, "t1", allowed="1 10 20 30") for d in ("loft", "keel")]
        for changes, word in (([astray], "sure"), ([astray, *lists], "likely")):
            answer = self.asked(*changes)
            against = answer.findings[0].alternatives[0].against
            self.assertEqual((answer.confidence, "trunks carry VLAN 30" in str(against)), (word, word == "likely"))

    def test_a_tag_is_wrong_if_the_port_carries_the_one_that_the_interface_is_named_after(self):
        changes = [interface("crane", "g1.10", 10, vid=30), at("loft", "desk1", pvid=30)]
        answer = self.asked(*changes, desks=(1, 0))
        self.assertEqual([f.rule for f in answer.findings], ["port-vlan-wrong", "gateway-vlan-wrong"])
        neither = self.asked(*changes, at("keel", "t9", allowed="1 20"), desks=(1, 0))
        self.assertIn("ports keel t9: allowed = 1 20 30", map(str, neither.repair))

    def test_an_explanation_that_does_without_several_faults_is_told_at_each(self):
        changes = [Change("devices", {"device": "crane"}, {"routing": "no"}), at("keel", "till1", pvid=10),
                   host("desk-loft-1", address="10.9.10.20/16", gateway="none"),
                   interface("crane", "g1.10", 10, proxy_arp="yes")]  # fmt: skip
        answer = self.asked(*changes)
        self.assertEqual(len(answer.findings), 4)
        other = next(one.changes for one in answer.findings[-1].alternatives if one.changes[0].table == "hosts")
        for finding in answer.findings:
            self.assertIn(other, [one.changes for one in finding.alternatives], finding.rule)
        with tempfile.TemporaryDirectory() as folder:
            write_survey(self.survey, Path(folder) / "yard")
            shown = run("why", Path(folder) / "yard", "desk-loft-1", "till-keel-1").stdout
        self.assertEqual(len(re.findall(r"nothing here, if another mend of 4 is right", shown)), 3, shown)
        self.assertEqual(len(re.findall("hosts till-keel-1: address → ", shown)), 1)  # in full at the one it is about

    def test_what_a_mend_takes_for_granted_is_mended_as_well(self):
        """Without gateway and with a short prefix a host is answered for by a router, once that forwards again."""
        changes = [Change("devices", {"device": "crane"}, {"routing": "no"}), at("keel", "till1", pvid=10),
                   host("desk-loft-1", address="10.9.10.20/16", gateway="none"),
                   interface("crane", "g1.10", 10, proxy_arp="yes")]  # fmt: skip
        told = {f.rule for f in self.asked(*changes).findings}
        self.assertLessEqual({"host-mask-differs", "host-gateway-missing", "port-vlan-wrong", "routing-off"}, told)


class Alone(unittest.TestCase):
    def test_of_two_hosts_alone_no_prefix_length_is_sure(self):
        network = network_of(
            devices="device|capabilities\nkeel|bridge",
            ports=ports("keel p1 access 10", "keel p2 access 10"),
            hosts=hosts("a 10.9.10.22/30 none keel p1", "b 10.9.10.135/24 none keel p2"),
        )
        answer = why(network, "a", "b")
        self.assertEqual([str(c) for c in answer.repair], ["hosts a: address = 10.9.10.22/24"])
        self.assertEqual(answer.confidence, "likely")


class Places(unittest.TestCase):
    def test_a_router_that_passes_a_subnet_on_did_not_have_its_gateway(self):
        network = network_of(
            devices="device|capabilities|routing\nkeel|bridge router|yes\ncrane|router|yes",
            ports=ports("keel p1 access 10", "keel p2 access 20", "keel t1 trunk 1 1 10 20 30", "crane g1 routed none"),
            neighbors=cabled("keel t1 crane g1"),
            gateways="device|interface|address|vid|port|untagged|admin|oper|proxy_arp\n"
            "crane|g1.20|10.9.20.1/24|20|g1|no|up|up|no\ncrane|g1.30|10.9.30.1/29|30|g1|no|up|up|no\n"
            "keel|vlan30|10.9.30.2/29|30|||up|up|no",
            routes="device|prefix|next_hop|origin\ncrane|10.9.10.0/24|10.9.30.2|static\nkeel|0.0.0.0/0|10.9.30.1|static",
            hosts=hosts("a 10.9.10.20/24 10.9.10.1 keel p1", "b 10.9.20.20/24 10.9.20.1 keel p2"),
        )
        answer = why(network, "a", "b")
        self.assertEqual([(c.key["device"], c.key["address"]) for c in answer.repair], [("keel", "10.9.10.1/24")])

    def test_the_last_address_of_a_subnet_is_left_to_a_gateway(self):
        for taken, given in ((3, "10.9.10.5/29"), (4, None)):
            others = [f"h{n} 10.9.10.{n + 2}/29 10.9.10.1 keel p{n}" for n in range(taken)]
            network = network_of(
                devices="device|capabilities|routing\nkeel|bridge router|yes",
                ports=ports(*(f"keel p{n} access 10" for n in range(taken)), "keel q access 10"),
                gateways="device|interface|address|vid|admin|oper|proxy_arp\nkeel|v10|10.9.10.1/29|10|up|up|no",
                hosts=hosts(*others, "new none 10.9.10.1 keel q"),
            )
            told = [c.cells.get("address") for c in why(network, "new", "h0").repair]
            self.assertEqual(told, [given] if given else [])


class LostRoutes(unittest.TestCase):
    def test_all_routes_that_a_router_lost_are_told_and_put_back(self):
        lost = [Change("routes", {"device": "far", "prefix": "0.0.0.0/0", "next_hop": "10.9.30.1"}, delete=True)]
        survey = apply_changes(quay(), lost)
        (told,) = [finding for finding in check(survey).findings if finding.rule.startswith("route")]
        self.assertEqual(told.says, "far has no route to 10.9.10.0/24 and 10.9.20.0/24; 10.9.30.1 leads there.")
        self.assertEqual({change.key["prefix"] for change in told.repair}, {"10.9.10.0/24", "10.9.20.0/24"})
        after = matrix(Network(survey).changed(told.repair)).reaches
        self.assertEqual([pair for pair in after if pair[2] == "fails"], [])
        (finding,) = why(survey, "desk-north", "store").findings
        self.assertEqual(finding.identity, told.identity)

    def test_four_subnets_without_a_route_are_named_and_more_are_counted(self):
        survey = generate(3, 20, 200, 12, 40)
        routes = [row for row in survey.routes if row.device == "core-2"]
        for count, end in ((5, "10.64.1.128/26 and 10.64.2.0/26"), (6, "10.64.1.128/26, 10.64.2.0/26 and 1 more")):
            keys = ({"device": row.device, "prefix": row.prefix, "next_hop": row.next_hop} for row in routes[:count])
            broken = apply_changes(survey, [Change("routes", key, delete=True) for key in keys])
            says = [finding.says for finding in check(broken).findings if finding.rule.startswith("route")]
            told = f"core-2 has no route to 10.64.0.128/26, 10.64.1.0/26, {end}; 10.33.0.1 leads there."
            self.assertIn(told, says)

    def test_a_default_route_that_leads_nowhere_is_one_fault(self):
        wrong = Change(
            "routes", {"device": "far", "prefix": "0.0.0.0/0", "next_hop": "10.9.30.1"}, {"next_hop": "10.99.0.9"}
        )
        survey = apply_changes(quay(), [wrong])
        (told,) = [finding for finding in check(survey).findings if finding.rule.startswith("route")]
        self.assertEqual([c.key["next_hop"] for c in told.repair if not c.delete], ["10.9.30.1"])


if __name__ == "__main__":
    unittest.main()
