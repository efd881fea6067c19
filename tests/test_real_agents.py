"""Real agents: a network agent and a discovery daemon at both ends of a cable, an SSH server, a library's agent.

What needs a program that is not there is skipped.
"""

import asyncio
import json
import os
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from crossthread import Access, gather, visit_async
from crossthread.live.shell import LISTINGS
from crossthread.sources.snmp.mib import COLUMNS

LAB = r"""
set -e
D=$1; shift
ip link set lo up
mkdir -p $D/near $D/far
unshare -n sleep 1000 & FAR=$!
sleep 0.3
ip link add harbour0 type veth peer name quay0
ip link set quay0 netns $FAR
there() { nsenter -t $FAR -n "$@"; }
ip addr add 10.61.1.1/24 dev harbour0; ip -6 addr add fd61:c7::1/64 dev harbour0 nodad; ip link set harbour0 up
there ip link set lo up; there ip addr add 10.61.1.2/24 dev quay0
there ip -6 addr add fd61:c7::2/64 dev quay0 nodad; there ip link set quay0 up
for side in near far; do
  where=; [ $side = near ] || where="nsenter -t $FAR -n"
  cat > $D/$side/snmpd.conf <<C
agentAddress udp:161,udp6:161
agentXSocket $D/$side/agentx
agentXPerms 0777 0777
master agentx
sysName lantern-$side
sysLocation Lighthouse
rocommunity lamp
rocommunity6 lamp
createUser sha256 SHA-256 authpass123 AES privpass123
createUser sha1 SHA authpass123 AES privpass123
createUser sha512 SHA-512 authpass123 AES-256 privpass123
createUser sha384 SHA-384 authpass123
rouser sha256
rouser sha1
rouser sha512
rouser sha384 auth
C
  SNMP_PERSISTENT_DIR=$D/$side $where snmpd -f -Lf $D/$side/log -C -c $D/$side/snmpd.conf -p $D/$side/pid &
  $where unshare -m sh -c "mount -t tmpfs lab /run && mkdir -p /run/lldpd &&
    exec lldpd -d -x -X $D/$side/agentx -u $D/$side/lldp.sock -S 'made up' -O /dev/null" > $D/$side/lldpd.log 2>&1 &
done
for n in $(seq 60); do sleep 0.3; [ -S $D/near/lldp.sock ] && [ -S $D/far/lldp.sock ] && break; done
for side in near far; do
  for n in $(seq 20); do
    lldpcli -u $D/$side/lldp.sock configure system hostname lantern-$side >/dev/null 2>&1 && break; sleep 0.3
  done
  lldpcli -u $D/$side/lldp.sock configure lldp tx-interval 1 >/dev/null 2>&1 || true
done
hears() { snmpbulkwalk -v2c -clamp -On $1 1.0.8802.1.1.2.1.4.2 2>/dev/null | grep -q $2; }
for n in $(seq 60); do sleep 0.3; hears 10.61.1.1 10.61.1.2 && hears 10.61.1.2 10.61.1.1 && break; done
snmpget -v2c -clamp -On "udp6:[fd61:c7::2]" 1.3.6.1.2.1.1.5.0 >/dev/null  # so that both ends have all in their caches
for side in near far; do
  mkdir -p $D/text/lantern-$side; [ $side = near ] && own=10.61.1.1 || own=10.61.1.2
  (for tree in 1.3.6.1.2.1 1.3.6.1.6.3.10 1.0.8802; do snmpbulkwalk -v2c -clamp -On $own $tree; done) \
    > $D/text/lantern-$side/walk.walk
done
"$@"
"""
VISITOR = """
import json, sys
from crossthread import Access, visit
from crossthread.live.access import Secret, ip_network

folder, within = sys.argv[1], (ip_network("10.61.0.0/16"), ip_network("fd61:c7::/64"))
def user(name, auth, privacy=None, key="authpass123", private="privpass123"):
    return Access(within, version="3", user=name, auth=auth, auth_key=Secret(key), privacy=privacy,
                  privacy_key=Secret(private) if privacy else None)

community = Access(within, community=Secret("lamp"))
tries = {
    "2c": ("10.61.1.1", [community]),
    "2c over IPv6": ("fd61:c7::1", [community]),
    "sha256 aes128": ("10.61.1.1", [user("sha256", "sha256", "aes128")]),
    "sha1 aes128": ("10.61.1.1", [user("sha1", "sha1", "aes128")]),
    "sha512 aes256 over IPv6": ("fd61:c7::1", [user("sha512", "sha512", "aes256")]),
    "sha384": ("10.61.1.1", [user("sha384", "sha384")]),
    "wrong first": ("10.61.1.1", [user("nobody", "sha256"), community]),
    "wrong key": ("10.61.1.1", [user("sha256", "sha256", "aes128", key="another pass")]),
    "no such user": ("10.61.1.1", [user("nobody", "sha256", "aes128")]),
}
found = {}
for name, (start, access) in tries.items():
    scope = ["fd61:c7::/64"] if ":" in start else ["10.61.0.0/16"]
    answer = visit([start], scope, access, f"{folder}/{name}", patience=1)
    found[name] = [[device.address, device.device, device.status, device.says] for device in answer.devices]
json.dump(found, open(f"{folder}/found.json", "w"))
"""
CHANGING = ("counted_for", "in_packets", "out_packets", "source", "extra", "in_errors", "out_errors")


def rows(survey):
    found = {}
    for name in ("devices", "ports", "neighbors", "gateways", "routes", "arp"):
        columns = [column for column in survey.table(name).record.__struct_fields__ if column not in CHANGING]
        kept = [row for row in survey.table(name) if name != "arp" or not row.address.startswith("fe80")]
        found[name] = sorted(repr([(c, getattr(row, c)) for c in columns]) for row in kept)
    return found  # the kernel learns link-local neighbours, and forgets them, whenever it likes


@unittest.skipUnless(all(map(shutil.which, ("snmpd", "lldpd", "lldpcli", "snmpbulkwalk"))), "needs snmpd and lldpd")
@unittest.skipUnless(os.geteuid() == 0, "needs root, for network namespaces with daemons in them")
class Daemons(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.folder.chmod(0o755)  # the daemon gives up its rights
        (cls.folder / "visitor.py").write_text(VISITOR)
        visitor = [sys.executable, str(cls.folder / "visitor.py"), str(cls.folder)]
        unshare = ["unshare", "-nm", "--fork", "--pid", "--mount-proc", "--kill-child"]
        done = subprocess.run(
            [*unshare, "bash", "-c", LAB, "sh", str(cls.folder), *visitor],
            capture_output=True,
            text=True,
            timeout=170,
            check=False,
        )
        if "unshare failed" in done.stderr or "Operation not permitted" in done.stderr:
            raise unittest.SkipTest("no network namespace may be made here")
        if done.returncode:
            raise AssertionError(done.stdout + done.stderr)
        cls.found = json.loads((cls.folder / "found.json").read_text())

    def test_every_version_finds_both(self):
        for name in (
            "2c", "2c over IPv6", "sha256 aes128", "sha1 aes128", "sha512 aes256 over IPv6", "sha384", "wrong first",
        ):  # fmt: skip
            start, far = ("fd61:c7::1", "fd61:c7::2") if "IPv6" in name else ("10.61.1.1", "10.61.1.2")
            with self.subTest(name):
                expected = [[start, "lantern-near", "complete", ""], [far, "lantern-far", "complete", ""]]
                self.assertEqual(self.found[name], expected)

    def test_credentials_that_the_device_refuses(self):
        self.assertEqual(self.found["wrong key"][0][2:], ["wrong credentials", "the authentication key is wrong"])
        self.assertEqual(self.found["no such user"][0][2:], ["wrong credentials", "it does not know the user"])

    def test_the_survey_is_that_of_the_text_of_the_common_client(self):
        text = rows(gather([self.folder / "text"]).survey)
        self.assertEqual(len(text["neighbors"]), 2)
        self.assertEqual(len(text["devices"]), 2)
        for name in ("2c", "2c over IPv6", "sha256 aes128", "sha512 aes256 over IPv6"):
            with self.subTest(name):
                found = rows(gather([self.folder / name]).survey)
                for table, told in text.items():
                    self.assertEqual(found[table], told, table)


SSHD = "/usr/sbin/sshd"


@unittest.skipUnless(Path(SSHD).exists() and shutil.which("ssh-keygen") and shutil.which("ip"), "needs an SSH server")
class ShellServer(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for name in ("host", "own", "other"):
            subprocess.run(
                ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(self.folder / name)], check=True, timeout=60
            )
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        shutil.copy(self.folder / "own.pub", self.folder / "authorized")
        (self.folder / "config").write_text(
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {self.folder}/host\nStrictModes no\nUsePAM no\n"
            f"AuthorizedKeysFile {self.folder}/authorized\nPasswordAuthentication no\nPidFile none\n"
        )
        public = (self.folder / "host.pub").read_text().split()[:2]
        (self.folder / "known").write_text(f"[127.0.0.1]:{self.port} {' '.join(public)}\n")
        if os.geteuid() == 0:
            Path("/run/sshd").mkdir(exist_ok=True)
        self.server = subprocess.Popen(
            [SSHD, "-D", "-e", "-f", str(self.folder / "config")], stderr=subprocess.PIPE, text=True
        )
        self.addCleanup(self.server.stderr.close)
        self.addCleanup(self.server.wait, 10)
        self.addCleanup(self.server.terminate)
        for line in self.server.stderr:
            if "listening on" in line.casefold():
                break
        else:
            self.skipTest("the SSH server does not start here")

    def visit(self, key="own", known="known"):
        entry = Access.by_key(
            os.environ.get("USER") or "root",
            ["127.0.0.0/8"],
            str(self.folder / key),
            str(self.folder / known),
            self.port,
        )
        return asyncio.run(visit_async(["127.0.0.1"], ["127.0.0.0/8"], [entry], self.folder / "v"))

    def test_the_listings_of_this_machine(self):
        answer = self.visit()
        (device,) = answer.devices
        self.assertIn(device.status, ("complete", "in part"), device.says)
        self.assertEqual(device.device, os.uname().nodename)
        kept = {path.name for path in (self.folder / "v" / "127.0.0.1").iterdir()}
        self.assertLessEqual({"asked.json", "ip-addr.json", "ip-link.json", "ip-netconf.json"}, kept)
        survey = gather(answer.walks).survey
        told = [row.device for row in survey.devices] + [row.host for row in survey.hosts]
        self.assertEqual(told, [os.uname().nodename])
        self.assertFalse((self.folder / "v.visiting").exists())

    def test_a_key_that_it_does_not_admit_and_a_host_key_that_is_not_known(self):
        (device,) = self.visit(key="other").devices
        self.assertEqual(device.status, "wrong credentials")
        (self.folder / "empty").write_text("")
        (device,) = self.visit(known="empty").devices
        self.assertEqual(device.status, "refused")
        self.assertIn("its host key is not the one in", device.says)


RESPONDER = """
import asyncio, sys
from pysnmp.entity import config, engine
from pysnmp.entity.rfc3413 import cmdrsp, context
from pysnmp.carrier.asyncio.dgram import udp

async def main():
    own = engine.SnmpEngine()
    config.add_transport(own, udp.DOMAIN_NAME, udp.UdpTransport().open_server_mode(("127.0.0.1", int(sys.argv[1]))))
    config.add_v1_system(own, "area", "lamp")
    config.add_v3_user(own, "reader", config.USM_AUTH_HMAC192_SHA256, "authpass123",
                       config.USM_PRIV_CFB128_AES, "privpass123")
    for model, name, level in ((2, "area", "noAuthNoPriv"), (3, "reader", "authPriv")):
        config.add_vacm_user(own, model, name, level, (1, 3, 6), (1, 3, 6))
    held = context.SnmpContext(own)
    cmdrsp.GetCommandResponder(own, held)
    cmdrsp.NextCommandResponder(own, held)
    cmdrsp.BulkCommandResponder(own, held)
    own.transport_dispatcher.job_started(1)
    await asyncio.sleep(0.2)
    print("ready", flush=True)
    await asyncio.sleep(60)

asyncio.run(main())
"""


class Pages(unittest.TestCase):
    def test_the_page_on_getting_the_data_has_every_tree_and_every_listing(self):
        page = (Path(__file__).parents[1] / "docs" / "getting-the-data.md").read_text(encoding="utf-8")
        trees = re.findall(r"(?<=[| ])1(?:\.\d+)+(?=[ ,])", page)
        for name, column in COLUMNS.items():
            self.assertTrue(any(column.startswith(f"{tree}.") for tree in trees), name)
        for file, command in LISTINGS.items():
            self.assertIn(f"    {command} > {file}\n", page)


class IndependentAgent(unittest.TestCase):
    def test_a_library_s_agent_by_both_versions(self):
        with socket.socket(type=socket.SOCK_DGRAM) as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        agent = subprocess.Popen([sys.executable, "-c", RESPONDER, str(port)], stdout=subprocess.PIPE, text=True)
        self.addCleanup(agent.stdout.close)
        self.addCleanup(agent.wait, 10)
        self.addCleanup(agent.kill)
        self.assertEqual(agent.stdout.readline().strip(), "ready")
        folder = self.enterContext(tempfile.TemporaryDirectory())
        within = ["127.0.0.0/8"]
        user = Access.by_user(
            "reader",
            within,
            auth="sha256",
            auth_key="authpass123",
            privacy="aes128",
            privacy_key="privpass123",
            port=port,
        )
        told = []
        for number, entry in enumerate((Access.by_community("lamp", within, port), user)):
            answer = asyncio.run(visit_async(["127.0.0.1"], within, [entry], f"{folder}/{number}"))
            self.assertEqual([device.status for device in answer.devices], ["complete"])
            lines = Path(answer.walks[0]).read_text().splitlines()[1:]
            self.assertTrue(any(line.startswith(".1.3.6.1.2.1.1.1.0 = STRING: ") for line in lines))
            told.append([line for line in lines if "Timeticks" not in line])
        self.assertEqual(told[0], told[1])


if __name__ == "__main__":
    unittest.main()
