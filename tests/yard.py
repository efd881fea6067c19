"""A boatyard of two switches and a router, for situations in which facts disagree."""

from crossthread import Change
from tests.building import cabled, hosts, ports, survey_of


def yard(desks=(2, 1), tills=(1, 1), style="stick", told=True):
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
        devices="\n".join(filter(None, ["device|capabilities|routing", "loft|bridge|no", own, routers])),
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


def quay():
    """A ring of three switches with a tree for each VLAN, a bundle, and two routers, one of which filters."""
    trunks = ["north t1", "north bundle1", "south t1", "south bundle1", "east t1", "east t2"]
    rows = [*(f"{end} trunk 1 1 10 20 30" for end in trunks), "north desk access 10", "south till access 20"]
    rows += ["east t9 access 30", "far e1 routed none", "far e2 routed none", "south desk access 10"]
    members = [f"{device}|b{n}|up|up||||bundle1" for device in ("north", "south") for n in (1, 2)]
    told = ports(*rows).splitlines()
    trees = ["device|instance|protocol|priority|address"]
    costs = ["device|port|instance|cost|priority|number|edge"]
    for vid, roots in ((10, ("north", "south", "east")), (20, ("south", "east", "north"))):
        for rank, device in enumerate(roots):
            trees.append(f"{device}|{vid}|per-vlan|{4096 * (rank + 1)}|02:00:00:00:0a:0{'nse'.index(device[0])}")
        for number, end in enumerate(trunks, 1):
            device, port = end.split()
            costs.append(f"{device}|{port}|{vid}|{3 if 'bundle' in port else 4}|128|{number}|no")
    return survey_of(
        devices="device|capabilities|routing|management\nnorth|bridge|no|10.9.10.2\nsouth|bridge|no|10.9.10.3\n"
                        "east|bridge router|yes|10.9.10.1\nfar|router|yes|10.9.30.2",
        ports="\n".join([told[0] + "|lag", *(f"{row}|" for row in told[1:]), *members]),
        neighbors=cabled("north t1 east t1", "south t1 east t2", "north b1 south b1", "north b2 south b2",
                         "east t9 far e1"),
        vlans="\n".join(["device|vid|name|state", *(f"{d}|{v}|{n}|active" for d in ("north", "south", "east")
                         for v, n in ((1, "default"), (10, "desks"), (20, "tills"), (30, "transit")))]),
        gateways="device|interface|address|vid|port|untagged|admin|oper|proxy_arp|filter_in\n"
                 "east|vlan10|10.9.10.1/24|10|||up|up|no|none\neast|vlan20|10.9.20.1/24|20|||up|up|no|none\n"
                 "east|vlan30|10.9.30.1/30|30|||up|up|no|none\nfar|e1|10.9.30.2/30||e1|yes|up|up|no|outer\n"
                 "far|e2|10.9.40.1/24||e2|yes|up|up|no|none",
        routes="device|prefix|next_hop|interface|origin|metric\neast|10.9.40.0/24|10.9.30.2|vlan30|static|5\n"
               "far|0.0.0.0/0|10.9.30.1|e1|static|1",
        filters="device|filter|number|action|protocol|source|otherwise\nfar|outer|10|drop|tcp|10.9.20.0/24|\nfar|outer|||||accept",
        cables="device|port|pair|status|length\nnorth|desk|1|ok|12\nsouth|till|1|ok|30",
        hosts=hosts("desk-north 10.9.10.20/24 10.9.10.1 north desk", "desk-south 10.9.10.21/24 10.9.10.1 south desk",
                    "till 10.9.20.20/24 10.9.20.1 south till", "store 10.9.40.20/24 10.9.40.1 far e2"),
        trees="\n".join(trees), tree_ports="\n".join(costs),
    )  # fmt: skip
