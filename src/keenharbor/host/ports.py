"""Ports of this machine."""

from __future__ import annotations

import socket


def port_is_taken(port: int) -> bool:
    """Whether somebody listens on that loopback port."""
    with socket.socket() as probe:
        probe.settimeout(0.5)
        if probe.connect_ex(("127.0.0.1", port)) != 0:
            return False
        return bool(probe.getsockname() != probe.getpeername())  # else the system gave the probe that very port
