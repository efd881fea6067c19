"""How devices may be read: the access file, in TOML, and the secrets that it points to.

A secret stands in the environment, in a file of its own, or in the system's key ring; never in this file, and no
record here shows one.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Mapping, Sequence
from ipaddress import ip_network
from pathlib import Path
from typing import Any

from crossthread.errors import Problem, SurveyError, visible
from crossthread.values import Address, Prefix

AUTH = {"sha1": 20, "sha224": 28, "sha256": 32, "sha384": 48, "sha512": 64}
"""The authentication protocols of version 3 (RFC 3414, RFC 7860)."""
PRIVACY = ("aes128", "aes192", "aes256")
"""The privacy protocols of version 3 (RFC 3826, and its longer keys)."""
_LEAST_KEY = 8
"""Octets of a pass phrase at least (RFC 3414 section 11.2)."""
_COMMON = {"within", "protocol", "port"}
_KEYS = {
    ("snmp", "2c"): _COMMON | {"version", "community"},
    ("snmp", "3"): _COMMON | {"version", "user", "auth", "auth_key", "privacy", "privacy_key"},
    ("ssh", None): _COMMON | {"user", "key", "pass_phrase", "known_hosts"},
}
_PORTS = {"snmp": 161, "ssh": 22}


class Secret:
    """A secret: told only to who asks for it by `reveal`, and shown nowhere."""

    __slots__ = ("__text",)

    def __init__(self, text: str) -> None:
        self.__text = text

    def reveal(self) -> str:
        return self.__text

    def __repr__(self) -> str:
        return "<Secret>"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and other.reveal() == self.__text

    def __hash__(self) -> int:
        return hash(self.__text)

    def __reduce__(self) -> tuple[object, ...]:
        raise TypeError("a secret is not stored")


class Access:
    """One entry of an access file: for which addresses, and how. `community` and the keys are secrets.

    Attributes
    ----------
    within
        The prefixes of addresses that it is for.
    protocol, port, version
        `snmp` with version `2c` or `3`, or `ssh`.
    """

    def __init__(
        self,
        within: tuple[Prefix, ...],
        protocol: str = "snmp",
        port: int | None = None,
        version: str | None = "2c",
        *,
        community: Secret | None = None,
        user: str | None = None,
        auth: str | None = None,
        auth_key: Secret | None = None,
        privacy: str | None = None,
        privacy_key: Secret | None = None,
        key: str | None = None,
        pass_phrase: Secret | None = None,
        known_hosts: str | None = None,
    ) -> None:
        self.within, self.protocol, self.version = within, protocol, version if protocol == "snmp" else None
        self.port = port or _PORTS[protocol]
        self.community, self.user = community, user
        self.auth, self.auth_key, self.privacy, self.privacy_key = auth, auth_key, privacy, privacy_key
        self.key, self.pass_phrase, self.known_hosts = key, pass_phrase, known_hosts

    @classmethod
    def by_community(cls, community: str, within: Sequence[str], port: int | None = None) -> Access:
        """Reading by SNMP version 2c, for programs that have the community from somewhere else than an access file."""
        return cls(tuple(map(ip_network, within)), port=port, community=Secret(community))

    @classmethod
    def by_user(
        cls,
        user: str,
        within: Sequence[str],
        *,
        auth: str | None = None,
        auth_key: str = "",
        privacy: str | None = None,
        privacy_key: str = "",
        port: int | None = None,
    ) -> Access:
        """Reading by SNMP version 3; `auth` and `privacy` are words as in an access file."""
        return cls(
            tuple(map(ip_network, within)),
            port=port,
            version="3",
            user=user,
            auth=auth,
            auth_key=Secret(auth_key) if auth else None,
            privacy=privacy,
            privacy_key=Secret(privacy_key) if privacy else None,
        )

    @classmethod
    def by_key(
        cls,
        user: str,
        within: Sequence[str],
        key: str | None = None,
        known_hosts: str | None = None,
        port: int | None = None,
    ) -> Access:
        """Reading listings over SSH, with a key file or, without one, the agent that holds the user's keys."""
        return cls(tuple(map(ip_network, within)), "ssh", port, None, user=user, key=key, known_hosts=known_hosts)

    def covers(self, address: Address) -> bool:
        """Whether it is for an address."""
        return any(address.version == prefix.version and address in prefix for prefix in self.within)

    def __str__(self) -> str:
        how = "SSH" if self.protocol == "ssh" else f"SNMP {self.version}"
        user = f" as {visible(self.user)}" if self.user else ""
        return f"{how}{user}, port {self.port}"

    def __repr__(self) -> str:
        return f"<Access: {self}>"


def read_access(path: str | Path) -> tuple[Access, ...]:
    """Read an access file and the secrets that it points to.

    Raises
    ------
    SurveyError
        If somebody else than its owner may read it, or anything in it cannot be used: all problems at once.
    """
    name = str(path)
    try:
        told = Path(path).stat()
        text = Path(path).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        says = f"cannot be read: {getattr(error, 'strerror', None) or 'not text'}"
        raise SurveyError([Problem(name, says)]) from None
    loose = _readable_by_others(told)
    if loose:
        raise SurveyError([Problem(name, loose)])
    return parse_access(text, name)


def parse_access(text: str, file: str) -> tuple[Access, ...]:
    """Read an access file's text: see `read_access`."""
    from crossthread.survey.toml_text import lines_of, parse_toml

    problems: list[Problem] = []
    document = parse_toml(text, file, problems)
    if document is None:
        raise SurveyError(problems)
    entries = document.get("access")
    lines = lines_of(text)
    for name in document:
        if name != "access":
            problems.append(Problem(file, "expected only [[access]] entries", lines.get((name,)), name))
    if not isinstance(entries, list) or not entries or not all(isinstance(entry, dict) for entry in entries):
        problems.append(Problem(file, "expected at least one entry [[access]]", lines.get(("access",))))
        raise SurveyError(problems)
    found = []
    for number, entry in enumerate(entries):
        where = {key: lines.get(("access", number, key), lines.get(("access", number))) for key in ("", *entry)}
        found.append(_Entry(entry, file, where, problems).access())
    if problems:
        raise SurveyError(problems)
    return tuple(entry for entry in found if entry is not None)


def _readable_by_others(told: os.stat_result) -> str | None:
    if os.name == "posix" and stat.S_IMODE(told.st_mode) & 0o077:
        return "others may read it; expected a file that only its owner may read (chmod 600)"
    if os.name == "posix" and told.st_uid not in (os.geteuid(), 0):
        return "it belongs to somebody else; expected a file of whoever runs this"
    return None


class _Entry:
    """One [[access]] table, read key by key."""

    def __init__(
        self, entry: Mapping[str, Any], file: str, lines: Mapping[str, int | None], problems: list[Problem]
    ) -> None:
        self._entry, self._file, self._lines, self._problems = entry, file, lines, problems

    def access(self) -> Access | None:
        before = len(self._problems)
        protocol = self._word("protocol", ("snmp", "ssh"), "snmp")
        version = self._word("version", ("2c", "3"), "2c") if protocol == "snmp" else None
        if len(self._problems) > before or protocol is None:
            return None
        for key in self._entry:
            if key not in _KEYS[protocol, version]:
                expected = ", ".join(sorted(_KEYS[protocol, version]))
                self._wrong(key, f"not known with {protocol} {version or ''}".rstrip() + f"; expected {expected}")
        within = self._within()
        port = self._entry.get("port")
        if port is not None and (not isinstance(port, int) or isinstance(port, bool) or not 0 < port < 65_536):
            self._wrong("port", "expected a number from 1 to 65535", port)
        given: dict[str, Any] = {}
        if version == "2c":
            given["community"] = self._secret("community", needed=True)
        elif version == "3":
            given["user"] = self._text("user", "the name of the user")
            given["auth"] = self._word("auth", tuple(AUTH), None)
            given["privacy"] = self._word("privacy", PRIVACY, None)
            given["auth_key"] = self._secret("auth_key", needed=given["auth"] is not None, least=_LEAST_KEY)
            given["privacy_key"] = self._secret("privacy_key", needed=given["privacy"] is not None, least=_LEAST_KEY)
            if given["privacy"] and not given["auth"]:
                self._wrong("privacy", "expected auth and auth_key as well: no privacy without them (RFC 3414)")
        else:
            given["user"] = self._text("user", "the name to log in with")
            given |= {"key": self._path("key"), "known_hosts": self._path("known_hosts")}
            given["pass_phrase"] = self._secret("pass_phrase")
        return None if len(self._problems) > before else Access(within, protocol, port, version, **given)

    def _wrong(self, key: str, says: str, value: object = None) -> None:
        """Note what is wrong; None, as what could not be read."""
        line = self._lines.get(key, self._lines.get(""))
        self._problems.append(Problem(self._file, says, line, key, None if value is None else str(value)))

    def _word(self, key: str, words: tuple[str, ...], default: str | None) -> str | None:
        value = self._entry.get(key, default)
        if value is not None and value not in words:
            self._wrong(key, f"expected one of {', '.join(words)}", value)
        return value if value in words else None

    def _text(self, key: str, needed: str = "") -> str | None:
        value = self._entry.get(key)
        if value is not None and not (isinstance(value, str) and value):
            self._wrong(key, "expected text")
        elif needed and value is None:
            self._wrong(key, f"expected {needed}")
        return value or None

    def _path(self, key: str) -> str | None:
        name = self._text(key)
        path = Path(name).expanduser() if name is not None else None
        if path is not None and not (path.is_file() and os.access(path, os.R_OK)):
            self._wrong(key, "expected a file that can be read", name)
        return name

    def _within(self) -> tuple[Prefix, ...]:
        told = self._entry.get("within")
        if not isinstance(told, list) or not told:
            self._wrong("within", 'expected a list of prefixes, such as ["10.61.0.0/16"]')
            return ()
        found = []
        for text in told:
            try:
                found.append(ip_network(text))
            except (ValueError, TypeError):
                self._wrong("within", "expected a prefix such as 10.61.0.0/16 or fd61:c7::/32", text)
        return tuple(found)

    def _secret(self, key: str, needed: bool = False, least: int = 1) -> Secret | None:
        """A secret, from where the entry says that it is; what it is, is never said."""
        told = self._entry.get(key)
        text, why = None, "a secret does not stand here; " * (told is not None) + _PLACES
        if isinstance(told, dict) and len(told) == 1:
            ((place, name),) = told.items()
            if place in _FROM and isinstance(name, str) and name:
                text, why = _FROM[place](name)
                if text is not None and len(text.encode()) < least:
                    text, why = None, f"the secret there is too short; expected at least {least} octets"
        if text is None and (needed or told is not None):
            self._wrong(key, why)
        return None if text is None else Secret(text)


def _from_env(name: str) -> tuple[str | None, str]:
    text = os.environ.get(name)
    return text or None, f"expected the secret in the environment variable {visible(name)}, which is not set"


def _from_file(name: str) -> tuple[str | None, str]:
    path = Path(name).expanduser()
    try:
        loose = _readable_by_others(path.stat())
        text = path.read_text(encoding="utf-8").rstrip("\r\n")
    except (OSError, UnicodeDecodeError) as error:
        return None, f"{visible(name, 200)} cannot be read: {getattr(error, 'strerror', None) or 'not text'}"
    if loose:
        return None, f"{visible(name, 200)}: {loose}"
    return text or None, f"{visible(name, 200)} is empty"


def _from_keyring(name: str) -> tuple[str | None, str]:
    """From the system's key ring; `name` is SERVICE/USER, or a user of the service “crossthread”."""
    import keyring
    from keyring.errors import KeyringError

    service, _, user = name.rpartition("/")
    try:
        text = keyring.get_password(service or "crossthread", user)
    except KeyringError as error:
        return None, f"the key ring cannot be asked: {visible(str(error), 120)}"
    return text, f"the key ring has nothing under {visible(name)}"


_FROM: Mapping[str, Callable[[str], tuple[str | None, str]]] = {
    "env": _from_env, "file": _from_file, "keyring": _from_keyring,
}  # fmt: skip
_PLACES = "expected { env = … }, { file = … } or { keyring = … }"
