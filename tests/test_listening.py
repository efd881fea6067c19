"""Listening on an interface: a cable of two ends in a network namespace of its own, and real frames on it."""

import json
import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from crossthread import ListeningError, desk, listen, read_survey
from crossthread.sources.frames import lldp
from crossthread.sources.frames.capture import read_capture, without_payload, write_capture

CABLE = """
ip link add cable0 type veth peer name far0 && ip link set cable0 up && ip link set far0 up || exit 77
"""
SENDER = """
import socket, sys, time
far = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
far.bind(("far0", 0))
for _ in range(150):
    for frame in sys.argv[1:]:
        far.send(bytes.fromhex(frame))
    time.sleep(0.2)
"""
STATION = bytes.fromhex("020000000202")
PHONE = lldp.Lldpdu(5, "10.61.40.9", 7, "2", 120, name="handset", capable=("phone",), enabled=("phone",))
SWITCH = lldp.Lldpdu(4, "02:00:00:00:01:01", 5, "port3", 120, name="ropehall", pvid=20)
ARP = b"\xff" * 6 + STATION + b"\x08\x06\x00\x01\x08\x00\x06\x04\x00\x01" + STATION + b"\x0a\x3d\x14\x07" + bytes(10)
TAGGED = b"\xff" * 6 + STATION + b"\x81\x00\x00\x28\x08\x00" + b"what somebody wrote " * 4
DULL = b"\x02\0\0\0\0\x09" + STATION + b"\x08\x00" + b"what somebody wrote " * 4


def announced(unit):
    return bytes.fromhex("0180c200000e020000000101") + b"\x88\xcc" + lldp.encode(unit)


def at_a_cable(command, *frames):
    """Run a command where a cable hangs from `cable0`, on which some frames arrive again and again."""
    script = f'{CABLE} {sys.executable} -c "$SENDER" "$@" & {command}'
    unshare = (
        ["unshare", "-nm", "--kill-child", "--fork", "--pid"]
        if os.geteuid() == 0
        else ["unshare", "-rn", "--kill-child", "--fork", "--pid"]
    )
    done = subprocess.run(
        [*unshare, "bash", "-c", script, "sh", *(frame.hex() for frame in frames)],
        env={**os.environ, "SENDER": SENDER, "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"},
        check=False,
        capture_output=True,
        text=True,
        timeout=60,
    )
    if "unshare failed" in done.stderr or done.returncode == 77:
        raise unittest.SkipTest("no network namespace may be made here")
    return done


@unittest.skipUnless(shutil.which("unshare") and shutil.which("ip"), "needs network namespaces")
class Listening(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.survey = Path(place.name) / "campus"

    def test_the_first_switch_ends_it(self):
        done = at_a_cable("crossthread listen cable0 --for 30 --first --json", announced(PHONE), ARP, announced(SWITCH))
        self.assertEqual(done.returncode, 0, done.stderr)
        answer = json.loads(done.stdout)
        self.assertEqual([socket["device"] for socket in answer["sockets"]], ["handset", "ropehall"])
        socket = answer["sockets"][1]
        self.assertEqual((socket["port"], socket["vlan"], socket["at"]), ("port3", 20, "cable0"))

    def test_what_was_heard_becomes_part_of_the_survey_without_what_people_wrote(self):
        command = f"crossthread listen cable0 --for 2 --into {self.survey}"
        done = at_a_cable(command, announced(SWITCH), ARP, TAGGED, DULL)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("heard: ropehall port3, VLAN 20", done.stderr)
        self.assertEqual(done.stdout.splitlines()[0], "ropehall port3, VLAN 20.")
        (kept,) = self.survey.with_name("campus.heard").iterdir()
        again = desk(kept)
        self.assertEqual((again.sockets[0].device, again.tagged), ("ropehall", (40,)))
        self.assertIn(("02:00:00:00:02:02", "10.61.20.7", 0), [(t.mac, t.address, t.vid) for t in again.talkers])
        self.assertNotIn(b"wrote", kept.read_bytes())
        (port,) = read_survey(self.survey).ports
        self.assertEqual((port.device, port.port, port.pvid), ("ropehall", "port3", 20))

    def test_nobody_says_anything(self):
        done = at_a_cable("crossthread listen cable0 --for 1", DULL)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(done.stdout.splitlines()[0], "Nobody announced itself on this cable.")

    def test_what_cannot_be_listened_on(self):
        for setting, name, says in (
            ("true", "nosuch", "there is no interface nosuch; this machine has"),
            ("true", "a-name-longer-than-any-interface", "there is no interface a-name-longer"),
            ("true", "lo", "lo is no Ethernet interface"),
            ("true", "cable0 --into /dev/null/campus", "what was heard cannot be written to /dev/null/campus.heard/"),
            ("ip link set cable0 down", "cable0", "cable0 is down"),
        ):
            with self.subTest(name=name, setting=setting):
                done = at_a_cable(f"{setting}; crossthread listen {name} --for 1")
                self.assertEqual((done.returncode, done.stdout), (2, ""))
                self.assertIn(says, done.stderr)
                self.assertEqual(done.stderr.count("\n"), 1, done.stderr)
        with self.assertRaisesRegex(ListeningError, "no interface"):
            listen("nosuch") if os.geteuid() == 0 else self.skipTest("needs the right to capture")

    @unittest.skipUnless(shutil.which("lldpd") and os.geteuid() == 0, "needs a discovery daemon and root")
    def test_a_real_discovery_daemon(self):
        settings = ("lldp tx-interval 1", "system hostname slipway", "system capabilities enabled bridge")
        says = "".join(f"configure {setting}\\n" for setting in settings)
        daemon = f"mount -t tmpfs own /run && mkdir /run/lldpd && printf '{says}' > /run/says && "
        daemon += "{ lldpd -d -I far0 -u /run/socket -O /run/says >/dev/null 2>&1 & }"
        done = at_a_cable(f"{daemon}; crossthread listen cable0 --for 40 --first --json")
        answer = json.loads(done.stdout)
        (socket,) = answer["sockets"]
        self.assertEqual((socket["device"], socket["at"], socket["capabilities"]), ("slipway", "cable0", ["bridge"]))
        self.assertIn("far0", (socket["port"], socket.get("description")))


class Frames(unittest.TestCase):
    FRAMES = st.lists(
        st.tuples(
            st.integers(0, 2**31 - 1).map(float),
            st.sampled_from([announced(SWITCH), announced(PHONE), ARP, TAGGED, DULL])
            | st.binary(min_size=14, max_size=90),
        ),
        min_size=1,
        max_size=12,
    )

    @given(FRAMES)
    def test_a_capture_without_payload_tells_the_same(self, frames):
        whole = read_capture(write_capture(frames))
        kept = read_capture(write_capture([(time, without_payload(frame)) for time, frame in frames]))
        self.assertEqual(kept, whole)
        self.assertEqual(whole.frames, len(frames))


if __name__ == "__main__":
    unittest.main()
