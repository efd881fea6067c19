"""Networks as a lab of real switches would build them, only thought up: hundreds in a minute, to judge mends by.

    python benchmarks/imagined.py BUILDER OUT SEEDS [--faults N]

BUILDER is a folder with the lab's program (its `lab/` has a generator of campuses and one of faults), SEEDS such as
`5001-5100`. Each network becomes OUT/case-SEED with `survey/` and `truth.json`, just as the lab writes them, but who
reaches whom is worked out by Cross Thread, not measured: so what its verdicts are worth cannot be seen from these, only
whether the mend that it proposes is the one that undoes what was put in.
"""

import argparse
import csv
import importlib
import json
import sys
from pathlib import Path

import crossthread as ct

KEPT = {
    "devices": ("device", "chassis", "capabilities", "platform", "software", "routing", "discovery"),
    "ports": ("device", "port", "mac", "description", "admin", "oper", "speed", "duplex", "mtu", "mode", "pvid",
              "allowed", "untagged", "discovery"),
    "gateways": ("device", "interface", "address", "vid", "port", "untagged", "admin", "oper", "proxy_arp"),
    "routes": ("device", "prefix", "next_hop", "interface", "origin", "metric"),
    "trees": ("device", "instance", "protocol", "priority", "address"),
    "tree_ports": ("device", "port", "instance", "role", "state", "cost", "priority", "number", "edge"),
    "hosts": ("host", "mac", "address", "gateway", "device", "port", "link"),
    "neighbors": ("device", "port", "protocol", "neighbor", "neighbor_chassis", "neighbor_port", "capabilities"),
}  # fmt: skip


def observed(lab, case, tables):
    """What one would observe of a network whose settings are these."""
    up, linked = lab.tables.links_up({**case, "tables": tables})
    kind = {row["device"]: row["_kind"] for row in tables["devices"]}
    far = {}
    for a, p, b, q in case["links"]:
        far[a, p], far[b, q] = (b, q), (a, p)
    out = {name: [dict(row) for row in tables.get(name, ())] for name in KEPT}
    for row in out["devices"]:
        routes = row["routing"] == "yes" or kind[row["device"]] != "switch"
        bridges = kind[row["device"]] == "switch"
        does = " ".join(["bridge"] * bridges + ["router"] * routes)
        row.update(
            chassis=row["_mac"],
            platform="switch" if bridges else "router",
            software="made up 1.0",
            discovery="on",
            capabilities=does,
        )
    chassis = {row["device"]: (row["chassis"], row["capabilities"]) for row in out["devices"]}
    stations = {(row["device"], row["port"]): row["host"] for row in tables["hosts"]}
    for row in out["ports"]:
        place = row["device"], row["port"]
        works = up.get(place, False)
        leads = " ".join(far[place]) if place in far else f"{stations.get(place, '')} e0"
        row.update(oper="up" if works else "down", mtu="1500", discovery="both", description=f"to {leads}")
        row.update({"speed": "10000", "duplex": "full"} if works else {})
        if works and place in far:
            device, port = far[place]
            mac, does = chassis[device]
            out["neighbors"].append(
                {
                    "device": row["device"],
                    "port": row["port"],
                    "protocol": "lldp",
                    "neighbor": device,
                    "neighbor_chassis": mac,
                    "neighbor_port": port,
                    "capabilities": does,
                }
            )
    on_port = {(row["device"], row["port"]) for row in out["ports"]}
    carried = {row["device"] for row in out["ports"] if row["oper"] == "up" and kind[row["device"]] == "switch"}
    for row in out["gateways"]:
        place = row["device"], row["port"]
        works = up.get(place, False) if place in on_port else row["device"] in carried
        row["oper"] = "up" if works and row["admin"] == "up" else "down"
    for row in out["hosts"]:
        row["link"] = "up" if linked[row["host"]] else "down"
    for row in out["trees"]:
        row["priority"] = row["priority"] or "32768"
    count = {}
    for row in out["tree_ports"]:
        count[row["device"]] = number = count.get(row["device"], 0) + 1
        row.update(cost=row["cost"] or "2000", priority=row["priority"] or "128", number=str(number))
    return out


def write(folder, tables, title):
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "survey.toml").write_text(f'format = 1\ntitle = "{title}"\n')
    for name, rows in tables.items():
        columns = [column for column in KEPT[name] if any(row.get(column) for row in rows)]
        if rows:
            with (folder / f"{name}.csv").open("w", newline="") as out:
                writer = csv.DictWriter(out, columns, extrasaction="ignore", lineterminator="\n")
                writer.writeheader()
                writer.writerows(rows)


def reached(folder, tables, title):
    """The survey of these settings, written with the states that its trees have; and who reaches whom."""
    write(folder, tables, title)
    network = ct.Network(ct.read_survey(folder))
    if tables["tree_ports"] and tables["trees"][0]["protocol"] != "off":
        seen = {(row.device, row.port): row for row in ct.tree(network, "0").ports}
        for row in tables["tree_ports"]:
            if (told := seen.get((row["device"], row["port"]))) and told.role and told.state:
                row.update(role=told.role, state=told.state)
        write(folder, tables, title)
    known = {"works": True, "fails": False}  # what hangs on who answers first is not stable in a lab either
    return [[a, b, known.get(verdict, "unstable")] for a, b, verdict in ct.matrix(ct.read_survey(folder)).reaches]


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("builder", type=Path)
    parser.add_argument("out", type=Path)
    parser.add_argument("seeds")
    parser.add_argument("--faults", type=int)
    given = parser.parse_args()
    sys.path.insert(0, str(given.builder))
    sys.dont_write_bytecode = True
    lab = importlib.import_module("lab")
    generate, faulty = (importlib.import_module(f"lab.{name}") for name in ("generate", "faults"))
    lab.tables = importlib.import_module("lab.tables")
    low, _, high = given.seeds.partition("-")
    for seed in range(int(low), int(high or low) + 1):
        case = generate.generate(seed)
        faults, tables = faulty.inject(case, given.faults)
        folder = given.out / f"case-{seed}"
        healthy = reached(folder / "survey", observed(lab, case, case["tables"]), folder.name)
        for path in (folder / "survey").glob("*.csv"):
            path.unlink()
        now = reached(folder / "survey", observed(lab, case, tables), folder.name)
        truth = {"seed": seed, "faults": faults, "reaches": now, "healthy_reaches": healthy}
        (folder / "truth.json").write_text(json.dumps(truth))


if __name__ == "__main__":
    main()
