"""What each finding means: the rules' docstrings, by the name of the finding."""

from __future__ import annotations

import re
from collections.abc import Callable
from inspect import getdoc
from typing import Any

import msgspec

from crossthread.diagnosis import explanations
from crossthread.diagnosis.rules import (
    cable,
    gateway,
    gateway_address,
    host,
    link,
    neighbor,
    plan,
    port,
    routing,
    survey,
    tree,
    vlan,
    way,
)

Rule = Callable[..., Any]

FAMILIES: dict[str, dict[str, tuple[Rule, ...]]] = {
    "Host": {
        "host-link-down": (host.host_link_down,),
        "host-not-located": (host.host_not_located,),
        "host-address-missing": (host.host_address_missing,),
        "host-address-duplicate": (host.host_address_duplicate,),
        "host-outside-subnet": (host.host_outside_subnet,),
        "host-mask-differs": (host.host_mask_differs,),
        "host-gateway-missing": (host.host_gateway_missing,),
        "host-gateway-outside-subnet": (host.host_gateway_outside_subnet,),
        "host-gateway-wrong": (host.host_gateway_wrong,),
    },
    "Port": {
        "port-admin-down": (port.port_admin_down,),
        "port-down": (port.port_down,),
        "port-vlan-wrong": (port.port_vlan_wrong, gateway.gateway_port_vlan_wrong),
        "port-vlan-missing": (port.port_vlan_missing, port.gateway_vlan_lost),
        "vlan-suspended": (port.vlan_suspended,),
        "port-mode-wrong": (port.port_mode_wrong, port.port_mode_loose, link.link_access_both, link.uplink_access),
        "port-refuses-station": (port.port_refuses_station, port.port_has_refused),
        "port-errors": (port.port_errors,),
        "port-slow": (port.port_slow,),
        "cable-fault": (port.cable_fault,),
    },
    "Link": {
        "link-mode-differs": (link.link_mode_differs,),
        "link-tagging-differs": (link.link_tagging_differs,),
        "link-native-differs": (link.link_native_differs, cable.announced_differs),
        "link-access-vlan-differs": (link.link_access_vlan_differs,),
        "link-allowed-differs": (link.link_allowed_differs,),
        "link-vlan-missing": (link.link_vlan_missing, link.link_not_spare, plan.plan_carries),
        "link-speed-differs": (cable.link_speed_differs,),
        "link-duplex-differs": (cable.link_duplex_differs,),
        "link-mtu-differs": (cable.link_mtu_differs,),
        "link-subnet-differs": (link.link_subnet_differs,),
        "link-lag-differs": (cable.link_lag_differs,),
    },
    "Neighbour discovery": {
        "neighbor-one-way": (neighbor.neighbor_one_way,),
        "neighbor-stale": (neighbor.neighbor_stale, neighbor.neighbor_renamed),
        "neighbor-several": (neighbor.neighbor_several,),
        "neighbor-conflict": (neighbor.neighbor_conflict,),
        "neighbor-unsurveyed": (neighbor.neighbor_unsurveyed,),
        "neighbor-no-address": (neighbor.neighbor_no_address,),
        "discovery-off": (neighbor.discovery_off,),
        "discovery-exposed": (neighbor.discovery_exposed,),
    },
    "VLAN": {
        "vlan-unused": (vlan.vlan_unused,),
        "vlan-split": (vlan.vlan_split,),
        "vlan-leak": (vlan.vlan_leak, way.way_leaks),
        "way-one-sided": (way.way_one_sided,),
        "vlan-name-differs": (vlan.vlan_name_differs,),
    },
    "Spanning tree": {
        "tree-root-unplanned": (tree.tree_root_unplanned,),
        "tree-root-by-default": (tree.tree_root_by_default,),
        "tree-roots-several": (tree.tree_roots_several,),
        "tree-blocks-vlan": (link.blocked_by_tree,),
        "tree-disagrees": (tree.tree_disagrees,),
        "tree-off-in-loop": (tree.tree_off_in_loop, tree.tree_off_at_port),
        "tree-detour": (tree.tree_detour,),
        "tree-edge-to-bridge": (tree.tree_edge_to_bridge,),
        "tree-region-differs": (tree.tree_region_differs,),
    },
    "Gateway and routing": {
        "gateway-admin-down": (gateway.gateway_admin_down,),
        "gateway-down": (gateway.gateway_down,),
        "gateway-vlan-wrong": (gateway.gateway_vlan_wrong,),
        "gateway-port-mode-wrong": (gateway.gateway_port_mode_wrong,),
        "gateway-address-wrong": (gateway_address.gateway_address_wrong,),
        "gateway-mask-differs": (gateway_address.gateway_mask_differs,),
        "gateway-missing": (gateway_address.gateway_missing,),
        "gateway-address-duplicate": (gateway_address.gateway_address_duplicate,),
        "gateway-tag-duplicate": (gateway_address.gateway_tag_duplicate,),
        "gateway-unreachable": (gateway.gateway_unreachable,),
        "routing-off": (routing.routing_off,),
        "route-missing": (routing.route_missing, routing.route_down),
        "route-back-missing": (routing.route_missing,),
        "proxy-arp-hides": (routing.proxy_arp_hides, routing.proxy_arp_on, routing.several_answer),
    },
    "Plan and inventory": {
        "plan-differs": (
            plan.plan_port, plan.plan_host, plan.plan_vlans, plan.plan_settings, plan.plan_trees, plan.plan_talk,
            plan.acceptance_idle,
        ),
        "plan-link-missing": (plan.plan_links,),
        "plan-link-extra": (plan.plan_links,),
        "software-mixed": (plan.software_mixed,),
        "survey-gap": (survey.survey_gap, explanations.unexplained),
    },
}  # fmt: skip
"""The findings by family, each with the rules that say it; the first is the usual one."""


class Meaning(msgspec.Struct, frozen=True):
    """What a finding means."""

    rule: str
    family: str
    means: str
    matters: str
    notice: str
    confirm: str
    mend: str
    also: tuple[str, ...]
    """In which other cases it is said."""


def meanings() -> tuple[Meaning, ...]:
    """All findings, in the order of their families."""
    return tuple(_meaning(name, family) for family, names in FAMILIES.items() for name in names)


def meaning(rule: str) -> Meaning | None:
    """What one finding means; None if there is none of this name."""
    family = next((family for family, names in FAMILIES.items() if rule in names), None)
    return _meaning(rule, family) if family is not None else None


def _meaning(rule: str, family: str) -> Meaning:
    first, *others = FAMILIES[family][rule]
    means, parts = parts_of(first)
    also = tuple(parts_of(other)[0] for other in others)
    return Meaning(rule, family, means, parts["Matters"], parts["Notice"], parts["Confirm"], parts["Mend"], also)


def parts_of(rule: Rule) -> tuple[str, dict[str, str]]:
    """A rule's docstring: what it means, and its labelled parts."""
    means, _, rest = (getdoc(rule) or "").partition("\n\n")
    labelled = re.split(r"^(Matters|Notice|Confirm|Mend): ", rest, flags=re.MULTILINE)[1:]
    texts = [" ".join(text.split()) for text in labelled[1::2]]
    return " ".join(means.split()), dict(zip(labelled[::2], texts, strict=True))
