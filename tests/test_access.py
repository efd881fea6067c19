"""Access files: what they say, what is wrong with them, and that no secret ever shows."""

import os
import pickle
import subprocess
import sys
import tempfile
import unittest
from ipaddress import ip_address
from pathlib import Path
from unittest import mock

from crossthread import Access, SurveyError, read_access
from crossthread.live.access import Secret

GOOD = """
[[access]]
within = ["10.61.0.0/16"]
version = "3"
user = "reader"
auth = "sha256"
auth_key = { file = "%s" }
privacy = "aes128"
privacy_key = { keyring = "campus/privacy" }
port = 1161
[[access]]
within = ["10.61.0.0/16", "fd61:c7::/32"]
community = { env = "CAMPUS_READ" }
[[access]]
within = ["10.61.90.0/24"]
protocol = "ssh"
user = "looker"
"""
RING = """
from keyring.backend import KeyringBackend
class Ring(KeyringBackend):
    priority = 1
    def get_password(self, service, user):
        return "from the ring" if (service, user) == ("campus", "privacy") else None
    def set_password(self, service, user, secret): ...
    def delete_password(self, service, user): ...
"""
SECRETS = ("lantern-oil", "salt-and-tar", "from the ring")


class AccessFiles(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.file = self.folder / "access.toml"
        self.key = self.folder / "key"
        self.key.write_text("salt-and-tar\n")
        self.key.chmod(0o600)
        (self.folder / "made_up_ring.py").write_text(RING)
        self.enterContext(mock.patch.dict(os.environ, {"CAMPUS_READ": "lantern-oil"}))

    def write(self, text, mode=0o600):
        self.file.write_text(text)
        self.file.chmod(mode)
        return self.file

    def problems(self, text, mode=0o600):
        with self.assertRaises(SurveyError) as caught:
            read_access(self.write(text, mode))
        said = [str(problem).removeprefix(str(self.file)) for problem in caught.exception.problems]
        self.assertFalse([line for line in said for secret in SECRETS if secret in line])
        return said

    def test_entries_in_their_order_and_secrets_from_where_they_are(self):
        code = "import keyring, made_up_ring as m; keyring.set_keyring(m.Ring()); from crossthread import read_access\n"
        code += f"one, two, three = read_access({str(self.write(GOOD % self.key))!r})\n"
        code += (
            "print(one, two, three, one.auth_key.reveal(), one.privacy_key.reveal(), two.community.reveal(), sep='|')"
        )
        done = subprocess.run(
            [sys.executable, "-c", code], cwd=self.folder, capture_output=True, text=True, check=True, timeout=60
        )
        expected = "SNMP 3 as reader, port 1161|SNMP 2c, port 161|SSH as looker, port 22|"
        self.assertEqual(done.stdout.strip(), expected + "salt-and-tar|from the ring|lantern-oil")

    def test_which_addresses_an_entry_is_for(self):
        entry = Access.by_community("x", ["10.61.0.0/16", "fd61:c7::/32"])
        told = [entry.covers(ip_address(text)) for text in ("10.61.9.1", "fd61:c7::1", "10.62.0.1", "fd62::1")]
        self.assertEqual(told, [True, True, False, False])

    def test_others_may_not_read_it(self):
        self.assertIn("others may read it", self.problems(GOOD % self.key, 0o640)[0])
        self.key.chmod(0o644)
        said = self.problems(f'[[access]]\nwithin=["10.0.0.0/8"]\ncommunity = {{ file = "{self.key}" }}')
        self.assertIn("others may read it", said[0])

    def test_every_problem_with_its_line(self):
        said = self.problems(
            '[[access]]\nwithin = ["10.61.0.0/33", 7]\nversion = "3"\nauth = "md5"\nprivacy = "aes128"\n'
            'privacy_key = "plain words"\nport = 70000\ncolour = "red"\n\n[[access]]\nwithin = []\n'
            'community = { env = "NOT_SET_HERE" }\n[[access]]\nwithin = ["10.0.0.0/8"]\nprotocol = "telnet"\n'
        )
        self.assertEqual(sorted({int(line.split(":")[1]) for line in said}), [1, 2, 4, 5, 6, 7, 8, 11, 12, 15])
        whole = "\n".join(said)
        for part in ("colour", "10.61.0.0/33", "auth “md5”", "a secret does not stand here", "port “70000”",
                     "NOT_SET_HERE", "telnet", "within: expected a list", "name of the user"):  # fmt: skip
            self.assertIn(part, whole)
        self.assertNotIn("plain words", whole)

    def test_no_file_no_toml_no_entry(self):
        with self.assertRaises(SurveyError):
            read_access(self.folder / "none")
        self.assertIn("not valid TOML", self.problems("[[access]\n")[0])
        self.assertIn("at least one entry", self.problems("")[0])
        self.assertIn("at least one entry", self.problems("access = 3\n")[0])

    def test_short_keys_and_files_that_are_not_there(self):
        self.key.write_text("short")
        self.assertIn("too short", self.problems(GOOD % self.key)[0])
        folder = self.key.parent  # a folder can be read as well, and is no file
        said = self.problems(
            f'[[access]]\nwithin=["10.0.0.0/8"]\nprotocol="ssh"\nuser="a"\nkey="/nowhere"\nknown_hosts="{folder}"\n'
        )
        self.assertEqual(len([line for line in said if "a file that can be read" in line]), 2)

    def test_a_secret_shows_nowhere(self):
        entry = Access.by_community("lantern-oil", ["10.0.0.0/8"])
        for text in (repr(entry), str(entry), repr(entry.community), str(entry.community), f"{vars(entry)}"):
            self.assertNotIn("lantern-oil", text)
        with self.assertRaises(TypeError):
            pickle.dumps(Secret("lantern-oil"))
        self.assertEqual(Secret("a"), Secret("a"))
        self.assertNotEqual(Secret("a"), Secret("b"))


if __name__ == "__main__":
    unittest.main()
