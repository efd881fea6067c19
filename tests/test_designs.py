"""Ordinary designs of campuses, each with a mistake that people make there: the mend is that of the mistake."""

import unittest

from crossthread import Change, Network, apply_changes, check, why
from tests.building import cabled, hosts, ports, survey_of

GATEWAYS = "device|interface|address|vid|port|untagged|virtual|virtual_state|admin|oper|proxy_arp\n"


def gateways(*rows):
    """Interfaces that are up: `device interface address vid port untagged shared state`, `-` for nothing."""
    return GATEWAYS + "\n".join("|".join([*row.replace("-", "").split(" "), "up", "up", "no"]) for row in rows)


def devices(routers, others):
    rows = [f"{name}|bridge router|yes" for name in routers.split()] + [f"{name}|bridge|no" for name in others.split()]
    return "\n".join(["device|capabilities|routing", *rows])


def managed():
    """Two access switches that are managed in VLAN 99, whose gateway is the core's as all others are."""
    return survey_of(
        devices=devices("core", "one two"),
        ports=ports(*(f"{end} trunk 1 10 20 99" for end in ("core a", "core b", "one u", "two u")),
                    "one p access 10", "one q access 99", "two p access 20", "two r access 10", "two s access 20"),
        neighbors=cabled("core a one u", "core b two u"),
        gateways=gateways(*(f"core vlan{v} 10.1.{v}.1/24 {v} - - - -" for v in (10, 20, 99)),
                          "one vlan99 10.1.99.2/24 99 - - - -", "two vlan99 10.1.99.3/24 99 - - - -"),
        routes="device|prefix|next_hop|interface\none|0.0.0.0/0|10.1.99.1|vlan99\ntwo|0.0.0.0/0|10.1.99.1|vlan99",
        hosts=hosts("desk 10.1.10.5/24 10.1.10.1 one p", "watch 10.1.99.5/24 10.1.99.1 one q",
                    "lab 10.1.20.5/24 10.1.20.1 two p", "mate 10.1.10.6/24 10.1.10.1 two r",
                    "rig 10.1.20.6/24 10.1.20.1 two s"),
    )  # fmt: skip


def carried():
    """Two sites of one customer, joined through a carrier's tunnel; each site has its own end of VLANs 10 and 20."""
    return survey_of(
        devices=devices("east", "west near far"),
        ports=ports("east u trunk 1 1 10 20", "west u trunk 1 1 10 20", "near c tunnel 700", "far c tunnel 700",
                    "near t trunk 1 700", "far t trunk 1 700", "east p access 20", "west p access 20"),
        neighbors=cabled("east u near c", "near t far t", "far c west u"),
        gateways=gateways("east vlan20 10.2.20.1/24 20 - - - -"),
        hosts=hosts("crane 10.2.20.5/24 10.2.20.1 east p", "sail 10.2.20.6/24 10.2.20.1 west p"),
    )  # fmt: skip


def doubled():
    """Two routers that share an address in VLAN 10, and one of them another subnet."""
    return survey_of(
        devices=devices("left right", "floor"),
        ports=ports("left u trunk 1 10", "floor a trunk 1 10", "right u trunk 1 10", "floor b trunk 1 10",
                    "floor p access 10", "left d access 50"),
        neighbors=cabled("left u floor a", "right u floor b"),
        gateways=gateways("left vlan10 10.3.10.2/24 10 - - 10.3.10.1 master", "left vlan50 10.3.50.1/24 50 - - - -",
                          "right vlan10 10.3.10.3/24 10 - - 10.3.10.1 backup"),
        hosts=hosts("oar 10.3.10.5/24 10.3.10.1 floor p", "net 10.3.50.5/24 10.3.50.1 left d"),
    )  # fmt: skip


def between(drops=""):
    """Two sites, each with its router, and an exit to which both their default routes lead by the first."""
    hops = [("east", "10.4.2.0/24", "10.4.9.2", ""), ("east", "0.0.0.0/0", "10.4.8.2", ""),
            ("west", "0.0.0.0/0", "10.4.9.1", ""), ("exit", "10.4.0.0/16", "10.4.8.1", "")]  # fmt: skip
    hops += [("east", "10.0.0.0/8", "", drops)] if drops else []
    return survey_of(
        devices=devices("east west exit", "out"),
        ports=ports("east p access 10", "west p access 10", "east w routed none", "west w routed none",
                    "east o routed none", "exit o routed none", "exit l routed none",
                    "out u access 1", "out p access 1"),
        neighbors=cabled("east w west w", "east o exit o", "exit l out u"),
        gateways=gateways("east vlan10 10.4.1.1/24 10 - - - -", "west vlan10 10.4.2.1/24 10 - - - -",
                          "east w 10.4.9.1/30 - w - - -", "west w 10.4.9.2/30 - w - - -",
                          "east o 10.4.8.1/30 - o - - -", "exit o 10.4.8.2/30 - o - - -",
                          "exit l 192.0.2.1/24 - l - - -"),
        routes="device|prefix|next_hop|kind\n" + "\n".join("|".join(hop) for hop in hops),
        hosts=hosts("buoy 10.4.1.5/24 10.4.1.1 east p", "dock 10.4.2.5/24 10.4.2.1 west p",
                    "far 192.0.2.5/24 192.0.2.1 out p"),
    )  # fmt: skip


LOST = Change("routes", {"device": "east", "prefix": "10.4.2.0/24", "next_hop": "10.4.9.2"}, {}, True)


def interface(device, name, own, **cells):
    return Change("gateways", {"device": device, "interface": name, "address": own}, cells)


def port(device, name, **cells):
    return Change("ports", {"device": device, "port": name}, cells)


CASES = (
    (managed, [Change("gateways", interface("core", "vlan99", "10.1.99.1/24").key, {}, True)], ("desk", "watch"),
     {("gateways", "core", "vlan99")}, {"likely"}),
    (managed, [interface("core", "vlan10", "10.1.10.1/24", address="10.1.99.1/24"),
               interface("core", "vlan99", "10.1.99.1/24", address="10.1.10.1/24")], ("lab", "watch"),
     {("gateways", "core", "vlan10"), ("gateways", "core", "vlan99")}, {"sure"}),
    (managed, [port("two", "p", pvid=10), port("two", "s", pvid=10)], ("lab", "desk"), {("ports", "two", "p")},
     {"likely"}),
    (carried, [port("west", "u", allowed="1 10")], ("crane", "sail"), {("ports", "west", "u")}, {"sure"}),
    (carried, [port("near", "t", allowed="none"), port("west", "u", admin="down", oper="down")], ("crane", "sail"),
     {("ports", "near", "t"), ("ports", "west", "u")}, {"sure"}),
    (doubled, [interface("left", "vlan10", "10.3.10.2/24", admin="down", oper="down")], ("oar", "net"),
     {("gateways", "left", "vlan10")}, {"sure"}),
    (doubled, [interface("left", "vlan10", "10.3.10.2/24", address="10.3.11.2/24")], ("net", "oar"),
     {("gateways", "left", "vlan10")}, {"likely"}),
)  # fmt: skip


class Designs(unittest.TestCase):
    def test_a_lost_route_comes_back_and_no_wider_one_is_taken_away_or_turned(self):
        for drops in ("", "blackhole"):
            network = Network(apply_changes(between(drops), [LOST]))
            for pair in (("buoy", "dock"), ("dock", "buoy"), ("far", "dock")):  # the last goes round, east and exit
                self.assertEqual(why(between(drops), *pair).verdict, "works")
                answer = why(network, *pair)
                self.assertEqual([(c.key, c.delete) for c in answer.repair], [(LOST.key, False)])
                self.assertTrue(answer.repair_proven)
            (told,) = (one for one in check(network).findings if one.severity == "breaks")
            self.assertEqual([c.key for c in told.repair], [LOST.key])

    def test_an_access_port_whose_voice_vlan_nobody_read_may_take_a_tag(self):
        tags = Change("hosts", {"host": "mate"}, {"vid": 20, "address": "10.1.20.7/24", "gateway": "10.1.20.1"})
        for voice, verdict in (("", "unknown"), (20, "works"), (30, "fails")):
            answer = why(apply_changes(managed(), [tags, port("two", "r", voice=voice)]), "mate", "lab")
            self.assertEqual(answer.verdict, verdict, voice)
            self.assertEqual(
                [one.says for one in answer.look if "voice of two r" in one.says] != [], verdict == "unknown"
            )

    def test_the_mend_of_each_mistake_is_where_it_was_made_and_check_has_it_too(self):
        for build, mistakes, pair, places, sure in CASES:
            with self.subTest(f"{build.__name__}: {'; '.join(map(str, mistakes))}"):
                self.assertEqual(why(build(), *pair).verdict, "works")
                network = Network(apply_changes(build(), mistakes))
                answer = why(network, *pair)
                named = {(c.table, c.key["device"], c.key.get("port") or c.key.get("interface")) for c in answer.repair}
                self.assertEqual((answer.verdict, named, answer.repair_proven), ("fails", places, True))
                self.assertIn(answer.confidence, sure)
                rules = {one.rule for one in check(network).findings if one.severity == "breaks"}
                self.assertGreaterEqual(rules, {one.rule for one in answer.findings})
