"""Which computers are linked to unasked: this one only."""

import ipaddress

from tallgrain.errors import OtherComputer


def check_host(host: str, remote: bool) -> None:
    """Raises OtherComputer for a host that is not this computer, unless `remote` allows it."""
    if not remote and not _loopback(host):
        raise OtherComputer(
            f"{host} is another computer, and only printers on this one are linked to unasked.",
            "--link",
            "Add --remote if you trust the network between them.",
        )


def _loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"
