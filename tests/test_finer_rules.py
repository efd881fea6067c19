"""What rules look at besides the plain case: both ends, the other instance, the one that is told of all."""

import datetime
import tempfile
import unittest
from pathlib import Path

import msgspec

from crossthread import Change, Network, Survey, apply_changes, check, compare, port, tree, why, write_survey
from crossthread.demo import healthy
from crossthread.network.topology.names import is_one_device
from crossthread.survey import Info
from crossthread.survey.records import TABLES, Device, Neighbor, Tree
from tests.building import cabled, hosts, ports, survey_of
from tests.refusing import Refusing
from tests.test_plan import plan_of
from tests.yard import at, host, interface, yard


def told(survey, rule):
    """The findings of a rule, also those under others."""
    waiting, found = list(check(survey).findings), []
    while waiting:
        one = waiting.pop(0)
        waiting += one.follows
        found += [one] if one.rule == rule else []
    return found


class Yards(unittest.TestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.yard = yard()

    def edited(self, *changes):
        return apply_changes(self.yard, changes)

    def believing(self, allowed, instance=20, protocol="per-vlan", native=1):
        """The yard's two switches, each of which believes itself the root of a tree."""
        rows = (Tree(device, instance, protocol=protocol, priority=4096, address=mac, root_priority=4096,
                     root_address=mac, root_cost=0)
                for device, mac in (("loft", "02:00:00:00:0b:01"), ("keel", "02:00:00:00:0b:02")))  # fmt: skip
        linked = self.edited(at("loft", "t1", allowed=allowed, pvid=native))
        return Survey(
            **{name: linked.table(name) for name in TABLES if linked.table(name)}, trees=tuple(rows), info=linked.info
        )


class Heard(Yards):
    def test_an_address_that_an_arp_cache_has_at_anothers_mac_address(self):
        stranger, own, router = "02:00:00:00:ee:ee", "02:00:00:00:00:01", "02:00:00:00:c1:01"
        for mac, name, expected in (
            (stranger, "g1.10", True),
            (own, "g1.10", False),
            (router, "g1.10", False),  # by proxy
            ("00:00:5e:00:01:0a", "g1.10", False),  # a virtual router's
            (stranger, "g1.20", False),  # not on its wire: somebody may answer for it
        ):
            entry = Change("arp", {"device": "crane", "interface": name, "address": "10.9.10.20"}, {"mac": mac})
            found = told(self.edited(at("crane", "g1", mac=router), entry), "host-address-duplicate")
            self.assertEqual([f.severity for f in found], ["risks"] * expected, (mac, name))
            if found:
                self.assertIn(f"crane has 10.9.10.20 at {stranger}, but desk-loft-1", found[0].says)
        twice = self.edited(host("desk-loft-2", address="10.9.10.20/24"))
        self.assertNotIn("somebody else answers", " ".join(f.says for f in told(twice, "host-address-duplicate")))


class Natives(Yards):
    def test_which_of_two_is_mended_does_not_turn_on_the_names_of_the_ends(self):
        for one, two in (("loft", "keel"), ("keel", "loft")):
            survey = survey_of(
                neighbors=cabled(f"{one} t {two} t"),
                ports=ports(f"{one} t trunk 20 20 30", f"{two} t trunk 40 20 30 40"),
            )
            (found,) = told(survey, "link-native-differs")
            self.assertEqual([str(change) for change in found.repair], [f"ports {two} t: pvid = 20"])


class Trees(Yards):
    def test_two_roots_of_a_vlans_tree_matter_where_the_link_carries_that_vlan(self):
        both = told(self.believing("1 10 20"), "tree-roots-several")
        self.assertEqual([s.instance for s in both[0].subjects], [20, 20])
        self.assertEqual(told(self.believing("1 10"), "tree-roots-several"), [])
        self.assertEqual(len(told(self.believing("1 10", 0, "rstp"), "tree-roots-several")), 1)

    def test_differing_natives_let_trees_per_vlan_run_into_each_other(self):
        for kind, says in (((1, "per-vlan"), True), ((0, "rstp"), False)):
            (found,) = told(self.believing("1 10 20", *kind, native=10), "link-native-differs")
            self.assertEqual("run into each other" in found.says, says)


class Links(Yards):
    def test_natives_break_something_if_either_is_in_use_and_carried(self):
        for native, allowed, severity in ((10, "1 10 20", "breaks"), (99, "1 10 20 99", "risks")):
            with self.subTest(native=native, allowed=allowed):
                survey = self.edited(at("loft", "t1", pvid=native, allowed=allowed))
                self.assertEqual([f.severity for f in told(survey, "link-native-differs")], [severity])

    def test_a_link_that_one_end_alone_hears_may_pass_frames_one_way_only(self):
        deaf = Survey(
            **{name: self.yard.table(name) for name in ("devices", "ports", "vlans", "gateways", "hosts")},
            neighbors=tuple(r for r in self.yard.neighbors if r.device != "keel" or r.port != "t1"),
            info=self.yard.info,
        )
        caveats = " ".join(why(Network(deaf), "desk-loft-1", "desk-keel-1").caveats)
        self.assertIn("loft t1 hears keel t1, and keel t1 hears nobody there", caveats)
        for silent in (
            at("keel", "t1", discovery="receive"),
            Change("devices", {"device": "loft"}, {"discovery": "off"}),
        ):
            told_off = why(Network(apply_changes(deaf, [silent])), "desk-loft-1", "desk-keel-1").caveats
            self.assertNotIn("one direction only", " ".join(told_off))

    def test_a_port_is_slow_measured_by_what_both_ends_can(self):
        for speed, far, slow in (
            (1000, 10000, [10000]), (1000, 5000, [5000]), (1000, 1000, []), (10000, 10000, []), (1000, "", []),
        ):  # fmt: skip
            with self.subTest(speed=speed, far=far):
                survey = self.edited(
                    at("loft", "t1", speed=speed, capable_speed=10000), at("keel", "t1", speed=speed, capable_speed=far)
                )
                found = [f for f in told(survey, "port-slow") if f.subjects[0].device == "loft"]
                self.assertEqual(
                    [f"{n} Mb/s would be possible" in f.says for f, n in zip(found, slow, strict=True)],
                    [True] * len(slow),
                )

    def test_two_access_ends_of_different_vlans_are_put_into_the_vlan_that_is_asked_for(self):
        survey = self.edited(at("loft", "t1", mode="access", pvid=10, allowed=""),
                             at("keel", "t1", mode="access", pvid=20, allowed=""),
                             *(Change("hosts", {"host": row.host}, delete=True) for row in self.yard.hosts
                               if row.host.startswith("till")))  # fmt: skip
        (found,) = why(Network(survey), "desk-loft-1", "desk-keel-1").findings
        self.assertEqual((found.rule, found.repair), ("link-access-vlan-differs", (at("keel", "t1", pvid=10),)))


class Hosts(Yards):
    def test_who_gave_itself_an_address_is_told_whether_a_gateway_is_in_reach(self):
        alone = {"address": "169.254.7.9/16", "gateway": "none"}
        for more, says in (
            ((), "served by crane g1.10, which it reaches"),
            ((at("keel", "t9", allowed="1 20"),), "served by crane g1.10, which it does not reach"),
            ((at("loft", "desk1", pvid=30),), "It is in VLAN 30, which no gateway that was read serves"),
        ):
            with self.subTest(says):
                (found,) = told(self.edited(host("desk-loft-1", **alone), *more), "host-address-automatic")
                self.assertIn(says, found.says)

    def test_a_trunk_towards_an_untagged_gateway_gets_its_vlan_allowed_too(self):
        survey = yard(style="ports")
        survey = apply_changes(survey, [at("keel", "t8", mode="trunk", pvid=1, allowed="1 20")])
        (found,) = told(survey, "gateway-port-mode-wrong")
        self.assertEqual(found.repair[0].cells, {"pvid": 10, "allowed": "1 10 20"})

    def test_peers_say_which_gateway_where_none_was_read_but_only_one_that_is_in_their_subnet(self):
        others = [("desk-loft-2", "10.9.99.1"), ("desk-keel-1", "10.9.99.1"), ("more", "10.9.10.7")]
        survey = self.edited(
            *(Change("gateways", {"device": "crane", "interface": f"g1.{v}", "address": f"10.9.{v}.1/24"}, delete=True)
              for v in (10, 20)),
            Change("hosts", {"host": "more"}, {"address": "10.9.10.77/24", "device": "loft", "port": "till1"}),
            at("loft", "till1", pvid=10), *(host(name, gateway=hop) for name, hop in others),
        )  # fmt: skip
        unread = Survey(**{name: survey.table(name) for name in ("devices", "ports", "vlans", "neighbors", "hosts")})
        for own, rule in (("10.9.55.1", "host-gateway-outside-subnet"), ("none", "host-gateway-missing")):
            with self.subTest(own):
                (found,) = [
                    one
                    for one in told(apply_changes(unread, [host("desk-loft-1", gateway=own)]), rule)
                    if one.subjects[0].host == "desk-loft-1"
                ]
                self.assertEqual([change.cells for change in found.repair], [{"gateway": "10.9.10.7"}])
                self.assertIn("more", found.says)

    def test_a_subnet_of_one_or_two_addresses_has_no_end_for_a_lost_gateway(self):
        for own, hop in (("10.8.1.1/32", "10.8.1.254"), ("10.8.1.1/31", "10.8.1.0"), ("fd09:8::1/128", "fe80::1")):
            with self.subTest(own):
                survey = self.edited(host("desk-loft-1", address=own, gateway=hop))
                self.assertEqual(why(Network(survey), "desk-loft-1", "till-loft-1").verdict, "fails")
                rules = [finding.rule for finding in check(survey).findings]
                self.assertEqual("host-gateway-outside-subnet" in rules, own.endswith("/32"))

    def test_a_host_of_both_versions_may_lack_the_gateway_of_one(self):
        survey = self.edited(
            host("desk-loft-1", address="10.9.10.20/24 fd09:10::20/64", gateway="10.9.10.1"),
            host("till-loft-1", address="10.9.20.22/24 fd09:20::22/64", gateway="10.9.20.1 fd09:20::1"),
            *(Change("gateways", {"device": "crane", "interface": f"g1.{v}", "address": f"fd09:{v}::1/64"},
                     {"vid": v, "port": "g1", "untagged": "no", "admin": "up", "oper": "up"}) for v in (10, 20)),
            Change("devices", {"device": "crane"}, {"routing6": "yes"}),
        )  # fmt: skip
        (found,) = why(Network(survey), "desk-loft-1", "till-loft-1").findings
        self.assertIn("desk-loft-1 has no IPv6 gateway; fd09:10::1 (crane g1.10) serves its subnet", found.says)

    def test_of_two_addresses_that_as_many_use_the_one_at_an_end_is_the_gateways(self):
        survey = self.edited(
            host("desk-loft-1", gateway="10.9.10.33"), host("desk-loft-2", gateway="10.9.10.254"),
            host("desk-keel-1", gateway="10.9.10.33"),
            Change("hosts", {"host": "more"}, {"address": "10.9.10.77/24", "gateway": "10.9.10.254", "device": "loft",
                                               "port": "till1"}), at("loft", "till1", pvid=10),
        )  # fmt: skip
        (found,) = told(survey, "gateway-address-wrong")
        self.assertEqual(found.repair[0].cells, {"address": "10.9.10.254/24"})


class Settings(Yards):
    def test_ports_that_are_not_as_planned_are_told_together(self):
        plan = plan_of("[settings]\nmtu = 9000\nspeed = 10000\n")
        for count, says in (
            (1, "loft desk1 has"),
            (3, "loft desk1, loft desk2, loft till1 have"),
            (4, "loft desk1, loft desk2, loft till1 and 1 more have"),
        ):
            ports = [("loft", "desk1"), ("loft", "desk2"), ("loft", "till1"), ("keel", "desk1")][:count]
            survey = self.edited(*(at(*port, mtu=1500) for port in ports))
            (found,) = [one for one in check(survey, plan).findings if "mtu" in one.says or "1500" in one.says]
            self.assertIn(says, found.says)
            self.assertEqual([c.cells for c in found.repair], [{"mtu": 9000}] * count)
        slow = self.edited(at("loft", "t1", speed=1000), at("loft", "desk1", speed=100))
        (found,) = [one for one in check(slow, plan).findings if one.rule == "plan-differs" and "1000" in one.says]
        self.assertEqual([str(s.port) for s in found.subjects], ["t1"])


class Told(Yards):
    def test_a_port_tells_the_interfaces_on_it_with_their_addresses(self):
        self.assertEqual(port(self.yard, "crane", "g1").gateways, ("g1.10 10.9.10.1/24", "g1.20 10.9.20.1/24"))

    def test_an_old_name_without_a_chassis_is_the_same_device_by_its_port_address_and_platform(self):
        cells = {"neighbor_port": "p1", "management": "10.9.10.9", "platform": "switch"}
        old, new = Neighbor("loft", "x", neighbor="old", **cells), Neighbor("loft", "x", neighbor="new", **cells)
        chassis = msgspec.structs.replace(new, neighbor_chassis="02:00:00:00:0c:01")
        other = msgspec.structs.replace(old, neighbor_chassis="02:00:00:00:0c:02")
        self.assertTrue(is_one_device(old, new))
        self.assertTrue(is_one_device(old, chassis))
        self.assertFalse(is_one_device(other, chassis))
        self.assertFalse(is_one_device(msgspec.structs.replace(old, platform="router"), new))

    def test_other_files_in_the_folder_of_a_survey_stay(self):
        folder = self.folder / "kept"
        write_survey(self.yard, folder)
        for name in ("notes.csv", "ports.txt", "plan.toml"):
            (folder / name).write_text("mine")
        write_survey(self.edited(*(Change("vlans", {"device": d, "vid": v}, delete=True)
                                   for d in ("loft", "keel") for v in (1, 10, 20))), folder)  # fmt: skip
        held = {path.name for path in folder.iterdir()}
        self.assertLessEqual({"notes.csv", "ports.txt", "plan.toml", "ports.csv"}, held)
        self.assertNotIn("vlans.csv", held)

    def test_a_root_that_does_not_say_so_itself_is_reported(self):
        survey = Survey(
            devices=tuple(Device(name, capabilities=("bridge",)) for name in ("d0", "d1", "far")),
            trees=(*(Tree(name, 0, protocol="rstp", priority=32768, address=f"02:00:00:00:0d:{n:02x}", root_cost=4,
                          root_priority=4096, root_address="02:00:00:00:0e:01") for n, name in enumerate(("d0", "d1"))),
                   Tree("far", 0, protocol="rstp", priority=4096, address="02:00:00:00:0e:01")),
        )  # fmt: skip
        self.assertIn(
            "reported by d0, d1; it is in another part of the survey",
            [root.because for root in tree(survey, 0).roots if root.device == "far"],
        )

    def test_the_plan_says_where_a_host_belongs_before_its_address_does_and_moves_nobody_alone(self):
        plan = plan_of('[vlans]\n10 = { subnets = ["10.9.10.0/24"] }\n20 = {}\n[hosts]\ndesk-loft-1 = { vlan = 20 }\n')
        found = [one for one in check(self.yard, plan).findings if one.subjects[0].port == "desk1"]
        told = [change.cells for one in found for other in one.alternatives for change in other.changes]
        self.assertIn({"pvid": 20}, told)
        self.assertEqual([one.repair for one in found if one.repair], [])

    def test_more_than_three_who_believe_in_a_root_that_nobody_read_are_counted(self):
        for count, says in ((3, "d0, d1, d2"), (4, "d0, d1, d2 and 1 more"), (5, "d0, d1, d2 and 2 more")):
            names = [f"d{n}" for n in range(count)]
            survey = Survey(
                devices=tuple(Device(name, capabilities=("bridge",)) for name in names),
                trees=tuple(Tree(name, 0, protocol="rstp", priority=32768, address=f"02:00:00:00:0d:{n:02x}",
                                 root_priority=4096, root_address="02:00:00:00:0e:01", root_cost=4)
                            for n, name in enumerate(names)),
            )  # fmt: skip
            self.assertIn(f"reported by {says}", " ".join(root.because for root in tree(survey, 0).roots))


class Shared(Yards):
    def sharing(self, *states):
        rows = [Change("gateways", {"device": "crane", "interface": f"g1.10{'ab'[n]}",
                                     "address": f"10.9.10.{n + 2}/24"},
                       {"vid": 10, "port": "g1", "untagged": "no", "admin": "up", "oper": "up", "virtual": "10.9.10.99",
                        "virtual_state": state}) for n, state in enumerate(states)]  # fmt: skip
        return told(self.edited(*rows), "gateway-shared-state")

    def test_one_holder_is_right_and_none_or_two_are_not(self):
        self.assertEqual(self.sharing("master", "backup"), [])
        (two,), (none,), (alone,) = (self.sharing(*s) for s in (["master"] * 2, ["backup"] * 2, ["backup"]))
        self.assertIn("crane g1.10a and crane g1.10b both hold", two.says)
        self.assertIn("Nobody holds 10.9.10.99, which crane g1.10a and crane g1.10b share", none.says)
        self.assertIn("nor does anybody else that was read", alone.says)

    def test_phones_of_one_device_are_told_of_once(self):
        survey = self.edited(
            at("loft", "desk1", voice=30), at("loft", "desk2", voice=30), at("loft", "till1", voice=20)
        )
        (found,) = told(survey, "voice-vlan-missing")
        self.assertIn("2 ports of loft tell phones to use VLAN 30", found.says)
        self.assertEqual([s.port for s in found.subjects], ["desk1", "desk2"])


class Transit(unittest.TestCase):
    def test_a_vlan_interface_that_lost_its_address_to_the_other_router_gets_it_back(self):
        survey = survey_of(
            devices="device|capabilities|routing\nnorth|bridge router|yes\nsouth|bridge router|yes",
            ports=ports(
                "north t1 trunk 1 1 10 20 30", "south t1 trunk 1 1 10 20 30", "north a access 10", "south b access 20"
            ),
            neighbors=cabled("north t1 south t1"),
            hosts=hosts("one 10.9.10.9/24 10.9.10.1 north a", "two 10.9.20.9/24 10.9.20.1 south b"),
            gateways="device|interface|address|vid|admin|oper|proxy_arp\nnorth|vlan10|10.9.10.1/24|10|up|up|no\n"
            "south|vlan20|10.9.20.1/24|20|up|up|no\nsouth|vlan30|10.9.30.2/30|30|up|up|no",
            routes="device|prefix|next_hop|interface|origin\nnorth|10.9.20.0/24|10.9.30.2|vlan30|static\n"
            "south|10.9.10.0/24|10.9.30.1|vlan30|static",
        )
        (found,) = why(Network(survey), "one", "two").findings
        self.assertEqual(found.rule, "gateway-missing")
        self.assertEqual(found.repair[0].key, {"device": "north", "interface": "vlan30", "address": "10.9.30.1/30"})
        self.assertEqual(found.repair[0].cells["vid"], 30)


class RoutedByMistake(unittest.TestCase):
    def test_a_port_that_routes_without_an_address_becomes_what_its_far_end_is(self):
        uplink, lonely = {"device": "galley", "port": "port1"}, {"device": "galley", "port": "port2"}
        routed = [Change("ports", one, {"mode": "routed"}) for one in (uplink, lonely)]
        for changes, pairs, mended in (
            (routed[:1], ("galley-till", "shop-till"), {"port": "port1", "mode": "trunk", "pvid": "none"}),
            (routed[1:], ("galley-till", "shop-till"), {"port": "port2", "mode": "access", "pvid": 10}),
            ([Change("ports", {"device": "ropehall", "port": "port3"}, {"mode": "access", "pvid": 10}), *routed[:1]],
             ("galley-till", "shop-till"), {"port": "port1", "mode": "trunk", "pvid": "none"}),
        ):  # fmt: skip
            with self.subTest(mended):
                network = Network(apply_changes(healthy(), changes))
                answer = why(network, *pairs)
                self.assertEqual(why(network.changed(answer.repair), *pairs).verdict, "works")
                first = next(c for c in answer.repair if c.key == {"device": "galley", "port": mended["port"]})
                self.assertEqual({**first.cells, "port": mended["port"]}, {**first.cells, **mended})
        lost = {"device": "core-east", "prefix": "10.99.0.0/16", "next_hop": "10.61.90.77"}  # nobody is it
        survey = apply_changes(healthy(), [routed[0], Change("routes", lost, {"interface": "vlan90"})])
        self.assertEqual(told(survey, "link-mode-differs"), [])

    def test_a_port_towards_a_router_that_routes_without_an_address(self):
        trunk = {"mode": "trunk", "pvid": 1, "allowed": "1 10 20"}  # as keel's other one
        for style, name, expected in (("stick", "t9", trunk), ("ports", "t8", trunk | {"pvid": 10, "allowed": "10"})):
            survey = apply_changes(yard(style=style), [at("keel", name, mode="routed", pvid="none", allowed="")])
            answer = why(Network(survey), "desk-loft-1", "till-keel-1")
            Refusing(survey).carry_out(answer.order)
            (change,) = answer.repair
            self.assertEqual((change.key["port"], change.cells), (name, expected))
        unread = apply_changes(
            survey, [Change("coverage", {"device": "keel", "table": "gateways"}, {"complete": "no"})]
        )
        self.assertEqual(told(unread, "gateway-port-mode-wrong"), [])

    def test_the_native_vlan_towards_a_router_that_sends_one_without_a_tag(self):
        bare = interface("crane", "g1.20", 20, untagged="yes")
        right = apply_changes(yard(), [bare, at("keel", "t9", pvid=20, allowed="10 20")])
        for wrong, mended in (
            (at("keel", "t9", pvid=10), {"pvid": 20}),
            (at("keel", "t9", allowed="10"), {"allowed": "10 20"}),
        ):
            survey = apply_changes(right, [wrong])
            (change,) = why(Network(survey), "desk-loft-1", "till-keel-1").repair
            self.assertEqual((change.key["port"], change.cells), ("t9", mended))
            self.assertEqual(sum(bool(one.repair) for one in told(survey, "gateway-port-mode-wrong")), 1)

    def test_one_end_of_the_cable_towards_a_router_was_read_when_it_was_down(self):
        for style, name in (("stick", "t9"), ("ports", "t8")):
            survey = apply_changes(yard(style=style), [at("keel", name, oper="down")])
            (change,) = why(Network(survey), "desk-loft-1", "till-keel-1").repair
            self.assertEqual((change.key["port"], change.cells), (name, {"oper": "up"}))

    def test_a_link_that_carries_nothing(self):
        ends = [{"device": "ropehall", "port": "port3"}, {"device": "galley", "port": "port1"}]
        nobody = [Change("ports", {"device": "galley", "port": port}, {"oper": "down"}) for port in ("port2", "port3")]
        away = [Change("hosts", {"host": name}, delete=True) for name in ("galley-till", "galley-tablet")]
        for lists, severities in ((("none", "none"), ["note"]), (("99", "98"), ["note"]), (("99", "98-99"), [])):
            shut = [Change("ports", end, {"allowed": vids}) for end, vids in zip(ends, lists, strict=True)]
            found = told(apply_changes(healthy(), [*nobody, *away, *shut]), "link-vlan-missing")
            self.assertEqual([one.severity for one in found], severities)


class Compared(unittest.TestCase):
    def test_each_kind_of_difference_is_one(self):
        was = Network(healthy())
        self.assertFalse(compare(was, Network(healthy())).differs)
        for change in (
            Change("vlans", {"device": "galley", "vid": 10}, {"name": "offices"}),
            Change("devices", {"device": "galley"}, {"software": "9.9"}),
            Change("hosts", {"host": "shop-till"}, {"mac": "02:00:00:00:77:77"}),
            Change("routes", {"device": "core-east", "prefix": "10.99.0.0/24", "next_hop": "10.61.90.2"}, {}),
        ):
            with self.subTest(str(change)):
                self.assertTrue(compare(was, Network(apply_changes(healthy(), [change]))).differs)

    def test_counters_rise_in_so_many_minutes_if_both_times_are_known(self):
        noon = datetime.datetime(2026, 5, 1, 12, 0, tzinfo=datetime.UTC)
        key = {"device": "galley", "port": "port1"}
        for times, rate in (
            ((noon, noon + datetime.timedelta(minutes=20)), 5.0),
            ((noon, None), None),
            ((noon, noon), None),
        ):
            before, after = (
                at_time(apply_changes(healthy(), [Change("ports", key, {"crc_errors": count})]), time)
                for count, time in zip((10, 110), times, strict=True)
            )
            (rose,) = compare(Network(before), Network(after)).counters
            self.assertEqual((rose.by, rose.a_minute), (100, rate))

    def test_what_was_made_of_planned_changes(self):
        port = {"device": "galley", "port": "port3"}
        before = apply_changes(healthy(), [Change("ports", port, {"mode": "access", "pvid": 10, "allowed": ""})])
        planned = [Change("ports", port, {"pvid": 20, "description": "till"})]
        for made, state in (
            ({"pvid": 20, "description": "till"}, "done"),
            ({"pvid": 20}, "in part"),
            ({"pvid": 30}, "otherwise"),
            ({}, "not done"),
        ):
            after = apply_changes(before, [Change("ports", port, made)]) if made else before
            answer = compare(Network(before), Network(after), repair=planned)
            self.assertEqual([one.done for one in answer.repair], [state])


def at_time(survey, time):
    """The same survey, taken at another time."""
    return Survey(
        **{name: survey.table(name) for name in ("devices", "ports")},
        info=msgspec.structs.replace(Info(), taken_at=time),
    )


if __name__ == "__main__":
    unittest.main()
