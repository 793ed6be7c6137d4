"""Addresses of machines across a cable: ``ssh://[USER@]HOST[:PORT]``."""

import re

from attrs import frozen

from verrou.cli.handing_over import SCHEME
from verrou.core.errors import BadInput

_ADDRESS = re.compile(
    r"(?:(?P<account>[A-Za-z0-9_][A-Za-z0-9_.+@$-]*)@)?"
    r"(?:(?P<host>[A-Za-z0-9_][A-Za-z0-9_.-]*)|\[(?P<ipv6>[0-9A-Fa-f:.]+(?:%[A-Za-z0-9_.-]+)?)\])"
    r"(?::(?P<port>[0-9]{1,5}))?",
    re.ASCII,
)
"""Nothing that begins with a hyphen, so that no part of it can be an option of ssh, and no blank, quote or path."""
MOST = 255
MOST_PORTS = 65535


@frozen(repr=False)
class Address:
    """An address, taken apart. Without an account or a port, the user's SSH configuration decides them."""

    host: str
    account: str = ""
    port: int | None = None

    @property
    def shown(self) -> str:
        """The host in messages and before questions."""
        return self.host

    def __str__(self) -> str:
        host = f"[{self.host}]" if ":" in self.host else self.host
        port = f":{self.port}" if self.port is not None else ""
        return f"{SCHEME}{f'{self.account}@' if self.account else ''}{host}{port}"

    @property
    def ssh_words(self) -> list[str]:
        """The words by which ssh(1) is told where to connect to; the host follows the end of its options."""
        account = ["-l", self.account] if self.account else []
        port = ["-p", str(self.port)] if self.port is not None else []
        return [*account, *port, "--", self.host]


def address_from(text: str) -> Address:
    """Take an address apart. Raises: BadInput: with what is accepted."""
    found = _ADDRESS.fullmatch(text.removeprefix(SCHEME)) if text.startswith(SCHEME) and len(text) <= MOST else None
    port = int(found["port"]) if found and found["port"] else None
    if found is None or (port is not None and not 1 <= port <= MOST_PORTS):
        raise BadInput(f"invalid address {text[:MOST]!r}; expected ssh://HOST, ssh://USER@HOST or ssh://USER@HOST:PORT")
    return Address(found["host"] or found["ipv6"], found["account"] or "", port)
