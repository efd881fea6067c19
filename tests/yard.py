"""A boatyard of two switches and a router, for situations in which facts disagree."""

from pathlib import Path

from crossthread import Change
from tests.building import cabled, hosts, ports, survey_of


def yard(folder: Path, desks=(2, 1), tills=(1, 1), style="stick", told=True):
    """`loft` and `keel` with a trunk; desks are in VLAN 10, tills in VLAN 20, so many of each at either switch.

    `crane` routes at keel: by one trunk (`stick`), by a port for each VLAN (`ports`); or keel does itself (`own`).
    Interfaces are named after their VLANs, or tell nothing.
    """
    rows, who = ["loft t1 trunk 1 1 10 20", "keel t1 trunk 1 1 10 20"], []
    cables, routers = ["loft t1 keel t1"], "crane|router|yes"
    for switch, some, others in zip(("loft", "keel"), desks, tills, strict=True):
        for kind, count, vid in (("desk", some, 10), ("till", others, 20)):
            for n in range(1, count + 1):
                rows.append(f"{switch} {kind}{n} access {vid}")
                who.append(f"{kind}-{switch}-{n} 10.9.{vid}.{20 + len(who)}/24 10.9.{vid}.1 {switch} {kind}{n}")
    held = ["device|interface|address|vid|port|untagged|admin|oper|proxy_arp"]
    names = dict(zip((10, 20), ("inner", "outer"), strict=True))
    if style == "own":
        routers = ""
        held += [f"keel|{f'vlan{v}' if told else names[v]}|10.9.{v}.1/24|{v}|||up|up|no" for v in (10, 20)]
    elif style == "stick":
        rows += ["keel t9 trunk 1 1 10 20", "crane g1 routed none"]
        cables.append("keel t9 crane g1")
        held += [f"crane|{f'g1.{v}' if told else names[v]}|10.9.{v}.1/24|{v}|g1|no|up|up|no" for v in (10, 20)]
    else:
        rows += ["keel t8 access 10", "keel t9 access 20", "crane g1 routed none", "crane g2 routed none"]
        cables += ["keel t8 crane g1", "keel t9 crane g2"]
        held += ["crane|g1|10.9.10.1/24||g1|yes|up|up|no", "crane|g2|10.9.20.1/24||g2|yes|up|up|no"]
    own = "keel|bridge router|yes" if style == "own" else "keel|bridge|no"
    vlans = [f"{d}|{v}|{n}|active" for d in ("loft", "keel") for v, n in ((1, "default"), (10, "desks"), (20, "tills"))]
    return survey_of(
        folder, devices="\n".join(filter(None, ["device|capabilities|routing", "loft|bridge|no", own, routers])),
        ports=ports(*rows), neighbors=cabled(*cables), gateways="\n".join(held), hosts=hosts(*who),
        vlans="\n".join(["device|vid|name|state", *vlans]),
    )  # fmt: skip


def at(device, port, **cells):
    return Change("ports", {"device": device, "port": port}, cells)


def host(name, **cells):
    return Change("hosts", {"host": name}, cells)


def interface(device, name, subnet, **cells):
    return Change("gateways", {"device": device, "interface": name, "address": f"10.9.{subnet}.1/24"}, cells)


def lost(device, vid):
    return Change("vlans", {"device": device, "vid": vid}, {}, True)


def tested(device, port, pair, status, length):
    return Change("cables", {"device": device, "port": port, "pair": pair}, {"status": status, "length": length})
