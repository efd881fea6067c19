"""What rows do not say may be so all the same: somebody answers, a router has one more address, a bundle is one."""

import unittest

from crossthread import Change, check, find, map_network, rehearse, why
from crossthread.network.topology.names import End
from tests.building import cabled, hosts, network_of, ports

MAC = "02:00:00:00:0a:0%d"


class BesideTheRows(unittest.TestCase):
    def test_who_answers_by_arp_and_was_not_surveyed_may_pass_on(self):
        """A gateway that no device has, and that a router has heard of: not at the MAC address of a known device."""

        def asked(heard, hop="10.1.0.254", table=True):
            return network_of(
                gateways="device|interface|address|port|untagged|admin|oper|proxy_arp\n"
                "rt|e1|10.1.0.1/24|e1|yes|up|up|no\nrt|e2|10.2.0.1/24|e2|yes|up|up|no",
                neighbors=cabled("sw p2 rt e1", "sw p3 rt e2"),
                ports=ports(*(f"sw p{n} access {vid}" for n, vid in ((1, 10), (2, 10), (3, 20), (4, 20), (5, 10))),
                            "rt e1 routed 1", "rt e2 routed 1"),
                hosts=hosts(f"a 10.1.0.9/24 {hop} sw p1", "b 10.2.0.9/24 10.2.0.1 sw p4"),
                devices=f"device|routing|chassis\nsw|no|{MAC % 1}\nrt|yes|{MAC % 2}",
                macs=f"device|vid|mac|port|kind\nsw|10|{MAC % 9}|p5|learned",
                **({"arp": f"device|interface|address|mac\nrt|e1|10.1.0.254|{heard}"} if table else {}),
            )  # fmt: skip

        answer = why(asked(MAC % 9), "a", "b")
        told = f"survey what answers for 10.1.0.254: MAC address {MAC % 9}, learned at sw p5"
        self.assertEqual((answer.verdict, answer.look[0].says, answer.repair), ("unknown", told, ()))
        rules = {one.rule for one in check(asked(MAC % 9)).findings}
        self.assertEqual(rules & {"host-gateway-wrong", "gateway-address-wrong", "survey-gap"}, {"survey-gap"})
        own = f"{MAC % 8}\nrt|e1|10.2.0.1|{MAC % 8}"  # a router's, as it has another address of it, too
        for other in (asked(MAC % 2), asked(own), asked(MAC % 9, table=False)):  # it had it; nobody told of any
            answer = why(other, "a", "b")
            self.assertEqual((answer.verdict, answer.findings[0].rule), ("fails", "host-gateway-wrong"))
        self.assertEqual(why(asked(MAC % 9, "10.1.0.1"), "a", "b").verdict, "works")

    def test_a_device_may_take_any_of_its_routes_that_are_as_good_and_any_whose_metric_nobody_read(self):
        """Two next hops lead to a subnet, and only one of them knows the way there; by whichever row comes first."""
        held = ("east l 1.1", "east x 9.1", "west x 9.2", "exit x 9.3", "west l 2.1")
        legs = ["{}|{}|10.4.{}/24||{}|yes|up|up|no".format(*leg.split(), leg.split()[1]) for leg in held]
        good, bad = "east|10.4.2.0/24|10.4.9.2", "east|10.4.2.0/24|10.4.9.3"
        for one, other, origin, verdict, told in (
            ("5", "9", "static", "works", []),
            ("9", "5", "static", "fails", ["route-missing"]),
            ("5", "5", "static", "unknown", ["routes-uneven", "route-missing"]),
            ("", "", "ospf", "unknown", ["routes-uneven", "route-missing"]),  # a protocol keeps the best ones
            *((*metrics, "static", "unknown", []) for metrics in (("", ""), ("5", ""), ("", "5"))),
        ):
            rows = [f"{good}|{one}|{origin}", f"{bad}|{other}|{origin}"]
            for routes in (rows, rows[::-1]):
                network = network_of(
                    ports=ports(*(f"sw p{n} access {vid}" for n, vid in enumerate((10, 10, 20, 20, 20, 30, 30))),
                                *(f"{leg.split('|')[0]} {leg.split('|')[1]} routed none" for leg in legs)),
                    neighbors=cabled("sw p1 east l", "sw p2 east x", "sw p3 west x", "sw p4 exit x", "sw p5 west l"),
                    gateways="\n".join(["device|interface|address|vid|port|untagged|admin|oper|proxy_arp", *legs]),
                    devices="device|routing\neast|yes\nwest|yes\nexit|yes\nsw|no",
                    routes="\n".join(["device|prefix|next_hop|metric|origin", *routes,
                                      "west|10.4.1.0/24|10.4.9.1|0|static", "exit|192.0.2.0/24|10.4.9.1|0|static"]),
                    hosts=hosts("a 10.4.1.5/24 10.4.1.1 sw p0", "b 10.4.2.5/24 10.4.2.1 sw p6"),
                )  # fmt: skip
                answer, found = why(network, "a", "b"), check(network).findings
                with self.subTest(metrics=(one, other), origin=origin, first=routes[0]):
                    self.assertEqual((answer.verdict, [finding.rule for finding in answer.findings]), (verdict, told))
                    severe = {"works": [], "fails": ["breaks"], "unknown": ["risks" if told else "note"]}[verdict]
                    self.assertEqual([finding.severity for finding in found], severe)
                    if told:
                        self.assertEqual([str(change.key["device"]) for change in found[0].repair], ["exit"])
                    elif verdict == "unknown":
                        self.assertEqual({(fact.table, fact.column) for fact in answer.observe}, {("routes", "metric")})

    def test_of_two_interfaces_in_one_subnet_a_device_may_take_either(self):
        nets = ((10, "10.1"), (20, "10.2"), (30, "30.1"))
        rows = [f"keel|v{vid}|10.9.{net}/24|{vid}|||up|up|no" for vid, net in nets]
        for held in (rows, rows[::-1]):
            network = network_of(
                ports=ports("keel a access 10", "keel c access 30"), devices="device|routing\nkeel|yes",
                gateways="\n".join(["device|interface|address|vid|port|untagged|admin|oper|proxy_arp", *held]),
                hosts=hosts("a 10.9.10.9/24 10.9.10.1 keel a", "c 10.9.30.9/24 10.9.30.1 keel c"),
            )  # fmt: skip
            answer = why(network, "c", "a")
            self.assertEqual((answer.verdict, answer.findings[0].rule), ("unknown", "routes-uneven"))

    def test_every_interface_has_a_link_local_address_read_or_not(self):
        """A host that learned its IPv6 gateway from an announcement has that as its gateway (RFC 4861, 6.3.4)."""

        def asked(*told):
            rows = [("e1", "fd07:1::1/64"), ("e2", "fd07:2::1/64"), *told]
            return network_of(
                gateways="device|interface|address|port|untagged|admin|oper\n"
                + "\n".join(f"rt|{name}|{own}|{name}|yes|up|up" for name, own in rows),
                neighbors=cabled("sw p2 rt e1", "sw p3 rt e2"),
                ports=ports(*(f"sw p{n} access {vid}" for n, vid in ((1, 10), (2, 10), (3, 20), (4, 20))),
                            "rt e1 routed 1", "rt e2 routed 1"),
                hosts=hosts("a fd07:1::a/64 fe80::9 sw p1", "b fd07:2::b/64 fd07:2::1 sw p4"),
                devices="device|routing\nsw|no\nrt|yes",
            )  # fmt: skip

        answer = why(asked(), "a", "b")
        told = ("read the link-local address of rt e1", "It works if rt e1 has fe80::9; else it fails.")
        self.assertEqual((answer.verdict, answer.look[0].says, answer.turns), ("unknown", *told))
        self.assertEqual({one.rule for one in check(asked()).findings if one.severity == "breaks"}, set())
        self.assertEqual(why(asked(("e1", "fe80::9/64")), "a", "b").verdict, "works")
        answer = why(asked(("e1", "fe80::1/64"), ("e2", "fe80::9/64")), "a", "b")
        self.assertEqual((answer.verdict, str(*answer.repair)), ("fails", "hosts a: gateway = fe80::1"))

    def test_whose_link_local_address_hosts_use_is_their_router(self):
        """An interface without the hosts' prefix, one with another prefix, and a host with an address of its own."""

        def asked(own, *others, a="fd07:1::a"):
            rows = [("v10", f"{at}/64", 10) for at in ("fe80::1", *own)] + [("v20", "fd07:2::1/64", 20)]
            return network_of(
                gateways="device|interface|address|vid|admin|oper\n"
                + "\n".join(f"sw|{name}|{at}|{vid}|up|up" for name, at, vid in rows),
                ports=ports("sw p1 access 10", "sw p2 access 10", "sw p3 access 20"), devices="device|routing\nsw|yes",
                hosts=hosts(f"a {a}/64 fe80::1 sw p1", "b fd07:1::b/64 fe80::1 sw p2", "c fd07:2::c/64 fd07:2::1 sw p3")
            )  # fmt: skip

        for network, repair in (
            (asked([]), "gateways sw v10 fd07:1::1/64: vid = 10, admin = up, oper = up, proxy_arp = no"),
            (asked(["fd07:9::1"]), "gateways sw v10 fd07:9::1/64: address = fd07:1::1/64"),
            (asked(["fd07:1::1"], a="fd07:9::a"), "hosts a: address = fd07:1::2/64"),
        ):
            answer = why(network, "a", "c")
            self.assertEqual((str(*answer.repair), answer.repair_proven, answer.confidence), (repair, True, "likely"))

    def test_two_routers_of_a_subnet_may_share_an_address_that_nobody_read(self):
        """First-hop redundancy (RFC 9568): the hosts use one address, and the routers have two others."""

        def asked(first="", second=None, **tables):
            rows = [("north", "1", first), ("south", "2", first if second is None else second)]
            return network_of(
                gateways="device|interface|address|vid|admin|oper|virtual\n"
                + "\n".join(f"{name}|vlan{v}|10.{v}.0.{n}/24|{v}|up|up|{v and f'10.{v}.0.254' if own == 'own' else own}"
                            for v in (10, 20) for name, n, own in rows),
                neighbors=cabled("sw t1 north t1", "sw t2 south t1"),
                ports=ports("sw p1 access 10", "sw p2 access 20", "sw p3 access 10",
                            *(f"{end} trunk 1 10 20" for end in ("sw t1", "sw t2", "north t1", "south t1"))),
                hosts=hosts("a 10.10.0.21/24 10.10.0.254 sw p1", "b 10.20.0.21/24 10.20.0.254 sw p2",
                            "a2 10.10.0.22/24 10.10.0.254 sw p3"),
                devices="device|routing\nsw|no\nnorth|yes\nsouth|yes", **tables,
            )  # fmt: skip

        answer = why(asked(), "a", "b")
        told = "read the shared addresses of north vlan10, south vlan10, north vlan20, south vlan20"
        self.assertEqual((answer.verdict, answer.look[0].says, answer.repair), ("unknown", told, ()))
        self.assertEqual([one.rule for one in check(asked()).findings if one.severity == "breaks"], [])
        self.assertEqual(why(asked("own"), "a", "b").verdict, "works")
        self.assertEqual(why(asked("none"), "a", "b").verdict, "fails")
        (told,) = (one for one in check(asked("none")).findings if one.rule == "gateway-address-wrong")
        either = [
            f"gateways {at}/24: address = 10.10.0.254/24" for at in ("north vlan10 10.10.0.1", "south vlan10 10.10.0.2")
        ]
        self.assertEqual((told.repair, sorted(str(*one.changes) for one in told.alternatives)), ((), either))
        self.assertEqual(why(asked("", "none"), "a", "b").verdict, "fails")  # of one alone nobody shares anything
        seen = "device|vid|mac|port\n" + "\n".join(f"sw|{vid}|00:00:5e:00:01:{vid}|t1" for vid in (10, 20))
        self.assertEqual(why(asked("", "none", macs=seen), "a", "b").verdict, "unknown")  # but such a one was heard

    def test_an_aggregate_to_two_devices_carries_what_both_have_in_one_part(self):
        """Two cores that act as one system, for two access switches (IEEE 802.1AX-2020 clause 9)."""

        def asked(state="attached", between="10 20", partner=False):
            rows = ["device|port|admin|oper|mode|pvid|allowed|lag|lag_state|lag_partner"]
            rows += [f"{d}|lag{n}|up|up|trunk|1|10 20|||" for d, n in ("l1", "m1", "nl", "nm", "sl", "sm")]
            rows += [f"{d}|p{n}|up|up||||lag{n}|{state}|" for d in "ns" for n in "lm"]
            names = {n: MAC % k if partner else "" for k, n in enumerate("ns")}
            rows += [f"{d}|p{n}|up|up||||lag1|{state}|{names[n]}" for d in "lm" for n in "ns"]
            rows += [f"{d}|x|up|up|trunk|1|{between}|||" for d in "ns"] + [f"{d}|h|up|up|access|20||||" for d in "lm"]
            trees = "device|instance|protocol\n" + "\n".join(f"{d}|0|off" for d in "lmns")
            return network_of(
                ports="\n".join(rows), trees=trees,
                neighbors=cabled("l pn n pl", "l ps s pl", "m pn n pm", "m ps s pm", "n x s x"),
                hosts=hosts("a 10.2.0.1/24 none l h", "b 10.2.0.2/24 none m h"),
                devices="device|routing\n" + "\n".join(f"{d}|no" for d in "lmns"),
            )  # fmt: skip

        told = "read which members of their aggregates are attached at l, m"
        turns = "It turns on which member of l lag1 takes the frame: they lead to n and s."
        for network, verdict, look, turned in (
            (asked(), "works", (), None),
            (asked(state=""), "unknown", (told,), None),
            (asked(between="10"), "unknown", (), turns),
            (asked(partner=True), "unknown", (), None),
        ):
            answer = why(network, "a", "b")
            self.assertEqual((answer.verdict, tuple(one.says for one in answer.look)), (verdict, look))
            self.assertEqual(answer.turns, turned or answer.turns)
            self.assertEqual({link.state for link in map_network(network).links}, {"up"})  # the cables are, in any case

    def test_a_next_hop_is_looked_up_in_other_routes(self):
        """One router's loopback address is the other's next hop, as in an interior BGP session (RFC 4271, 9.1.2.1)."""

        def asked(origin="bgp", out="", inner="10.255.0.2/32"):
            return network_of(
                gateways="device|interface|address|port|admin|oper\n"
                "n|e0|10.0.0.1/30|e0|up|up\nn|e1|10.1.0.1/24|e1|up|up\ns|e0|10.0.0.2/30|e0|up|up\n"
                "s|e1|10.2.0.1/24|e1|up|up\ns|lo|10.255.0.2/32||up|up",
                routes="device|prefix|next_hop|interface|origin\ns|0.0.0.0/0|10.0.0.1||static\n"
                f"n|{inner}|10.0.0.2|e0|ospf\nn|10.2.0.0/24|10.255.0.2|{out}|{origin}",
                neighbors=cabled("n e0 s e0", "n e1 a p1", "s e1 b p1"),
                ports=ports(*(f"{r} e{n} routed 1" for r in "ns" for n in (0, 1)),
                            *(f"{w} p{n} access 10" for w in "ab" for n in (1, 2))),
                hosts=hosts("x 10.1.0.9/24 10.1.0.1 a p2", "y 10.2.0.9/24 10.2.0.1 b p2"),
                devices="device|routing\nn|yes\ns|yes\na|no\nb|no",
            )  # fmt: skip

        verdicts = [why(asked(*how), "x", "y").verdict for how in ((), ("static", "e0"), ("bgp", "", "0.0.0.0/0"))]
        verdicts += [why(asked(*how), "x", "y").verdict for how in (("bgp", "e1"), ("bgp", "", "10.254.0.0/16"))]
        self.assertEqual(verdicts, ["works"] * 3 + ["fails"] * 2)
        self.assertEqual(why(asked("static"), "x", "y").look[0].says, "read the route to 10.2.0.0/24 of n")
        self.assertNotIn("gateway-missing", {one.rule for one in check(asked()).findings})

    def test_what_was_learned_at_a_port_without_a_row_may_be_reached_there(self):
        """Two switches that are routed to each other, and have each other's stations at a port that nobody listed."""
        rows = [(w, mac, p) for w, one, two in (("n", 1, 2), ("s", 2, 1)) for mac, p in ((one, "p1"), (two, "tunnel"))]
        learned = "device|vid|mac|port\n" + "\n".join(f"{w}|10|02:00:00:00:00:0{mac}|{p}" for w, mac, p in rows)
        for macs, verdict, told in (
            (learned, "unknown", ["n tunnel", "s tunnel"]),
            (learned.replace("tunnel", "p1"), "fails", []),
        ):
            network = network_of(
                ports=ports("n e0 routed 1", "s e0 routed 1", "n p1 access 10", "s p1 access 10"), macs=macs,
                neighbors=cabled("n e0 s e0"), hosts=hosts("a 10.1.0.1/24 none n p1", "b 10.1.0.2/24 none s p1"),
                gateways="device|interface|address|port\nn|e0|10.0.0.1/30|e0\ns|e0|10.0.0.2/30|e0",
                devices="device|routing\nn|yes\ns|yes",
            )  # fmt: skip
            self.assertEqual((why(network, "a", "b").verdict, sorted(map(str, network.open_ends))), (verdict, told))

    def test_a_host_at_a_member_of_an_aggregate_is_at_the_aggregate(self):
        def asked(vid):
            rows = ["device|port|admin|oper|mode|pvid|lag", "sw|p1|up|up|access|20|", f"sw|lag9|up|up|access|{vid}|"]
            return network_of(
                ports="\n".join([*rows, *(f"sw|p{n}|up|up|||lag9" for n in (8, 9))]),
                hosts=hosts("a 10.2.0.1/24 none sw p1", "server 10.2.0.9/24 none sw p8"),
                devices="device|routing\nsw|no",
            )

        self.assertEqual(why(asked(20), "a", "server").verdict, "works")
        answer = why(asked(30), "a", "server")
        self.assertEqual((answer.verdict, answer.findings[0].rule), ("fails", "port-vlan-wrong"))
        self.assertEqual([str(End(row.device, row.port)) for row in find(asked(20), "server").places], ["sw lag9"])

    def test_who_tags_though_no_row_says_so(self):
        """A machine with several stations behind it at a trunk, and telephones at access ports."""

        def asked(rows, learned="", tag="", voice=""):
            plugged = hosts("desk 10.20.0.9/24 10.20.0.1 sw p1", *rows).replace("x|y", "|").splitlines()
            lines = ports("sw p1 access 20", "sw p2 trunk 99 20 40 99", "sw p4 access 20").splitlines()
            return network_of(
                gateways="device|interface|address|vid|admin|oper|proxy_arp\n"
                + "\n".join(f"sw|vlan{v}|10.{v}.0.1/24|{v}|up|up|no" for v in (20, 40)),
                ports="\n".join([lines[0] + "|voice", *(f"{line}|" for line in lines[1:3]), f"{lines[3]}|{voice}"]),
                hosts="\n".join([plugged[0] + "|vid", *(f"{line}|" for line in plugged[1:-1]), f"{plugged[-1]}|{tag}"]),
                devices="device|routing\nsw|yes", neighbors="device|port|neighbor|capabilities\nsw|p2|machine|station",
                macs="device|vid|mac|port|kind\nsw|20|02:00:00:00:00:01|p1|learned" + learned,
            )  # fmt: skip

        in_40 = "\nsw|40|02:00:00:00:00:02|p2|learned"
        for where, learned, tag, verdict in (
            ("x y", in_40, "", "works"),  # nothing but what was learned says where it is
            ("sw p2", in_40, "", "unknown"),  # or the port was an access port when that was learned
            ("sw p2", in_40, "40", "works"), ("sw p2", in_40, "none", "fails"), ("sw p2", "", "", "fails"),
            ("sw p2", in_40.replace("40", "99"), "", "fails"),
        ):  # fmt: skip
            network = asked([f"vm 10.40.0.9/24 10.40.0.1 {where}"], learned, tag)
            with self.subTest(where=where, learned=learned, tag=tag):
                both = why(network, "vm", "desk").verdict, why(network, "desk", "vm").verdict
                self.assertEqual(both, (verdict, verdict))
        answer = why(asked(["vm 10.40.0.9/24 10.40.0.1 sw p2"], in_40), "vm", "desk")
        look, turns = "not at all or with VLAN 40", "It works if vm tags with VLAN 40; it fails if vm does not tag."
        self.assertEqual((answer.look[0].says, answer.turns), (f"see whether vm tags its frames: {look}", turns))
        pair = asked(["vm 10.40.0.9/24 10.40.0.1 sw p2", "vm2 10.20.0.8/24 10.20.0.1 sw p2"])
        for changed, verdict in (({"vid": "20"}, "unknown"), ({"device": "", "port": ""}, "fails")):  # or it is alone
            one = Change("hosts", {"host": "vm2"}, changed)
            self.assertEqual(why(pair.changed([one]), "vm", "desk").verdict, verdict)
        told = [one.rule for one in check(pair).findings if one.severity != "note"]
        self.assertEqual((why(pair, "vm", "vm2").verdict, told), ("unknown", []))  # something is between
        astray = asked(["vm 10.20.0.7/24 10.20.0.1 x y"], in_40)
        (told,) = (one for one in check(astray).findings if one.severity == "breaks")
        self.assertEqual((told.rule, list(map(str, told.repair))), ("host-tag-wrong", ["hosts vm: vid = 20"]))
        for learned, verdict, rules in (
            ("\nsw|40|02:00:00:00:00:02|p4|learned", "works", set()), ("", "unknown", set()),
            ("\nsw|20|02:00:00:00:00:02|p4|learned", "fails", {"port-vlan-wrong"}),
        ):  # fmt: skip
            network = asked(["phone 10.40.0.9/24 10.40.0.1 sw p4"], learned, voice="40")
            with self.subTest(learned=learned):
                found = {one.rule for one in check(network).findings if one.severity == "breaks"}
                self.assertEqual((why(network, "phone", "desk").verdict, found), (verdict, rules))
        beside = asked(["phone 10.40.0.9/24 10.40.0.1 sw p1"], "\nsw|40|02:00:00:00:00:02|p1|learned")
        self.assertEqual(why(beside, "phone", "desk").verdict, "works")  # its voice VLAN was not read
        vm, untagged = asked(["vm 10.40.0.9/24 10.40.0.1 x y"], in_40), {"mode": "access", "pvid": 40, "allowed": ""}
        rehearsed = rehearse(vm, [Change("ports", {"device": "sw", "port": "p2"}, untagged)])
        self.assertEqual(len(rehearsed.broken), 2)  # it goes on tagging

    def test_a_host_behind_an_access_point_that_nobody_surveyed(self):
        """How the verdict turns, and what is wrong already on the way to where it was learned."""
        passed = "if ap passes on what it did when laptop was learned at sw p2 in VLAN 40"
        for allowed, turns, likely in (
            ("20 40", f"It works {passed}.", []),
            ("20", f"It fails even {passed}, as far as was read.", ["ports sw t1: allowed = 20 40"]),
        ):
            network = network_of(
                gateways="device|interface|address|vid|admin|oper|proxy_arp\n"
                + "\n".join(f"core|vlan{v}|10.{v}.0.1/24|{v}|up|up|no" for v in (20, 40)),
                ports=ports("sw p1 access 20", "sw p2 trunk 1 20 40", f"sw t1 trunk 1 {allowed}",
                            "core t1 trunk 1 20 40"),
                hosts=hosts("desk 10.20.0.9/24 10.20.0.1 sw p1")
                + "\nlaptop|02:00:00:00:00:02|10.40.0.9/24|10.40.0.1|||",
                devices="device|routing\nsw|no\ncore|yes", macs="device|vid|mac|port\nsw|40|02:00:00:00:00:02|p2",
                neighbors=cabled("sw t1 core t1") + "\nsw|p2|ap|eth0",
            )  # fmt: skip
            for pair in (("laptop", "desk"), ("desk", "laptop")):
                answer = why(network, *pair)
                self.assertEqual((answer.verdict, answer.turns), ("unknown", turns))
                self.assertEqual([str(change) for one in answer.findings for change in one.repair], likely)


if __name__ == "__main__":
    unittest.main()
