"""Clones: disposable copies of a site, made from a snapshot, that cannot reach the live one."""

from keenharbor.clone.clone import Clone, CloneFacts, close_clone, list_clones, make_clone, open_clone
from keenharbor.clone.mailbox import Mailbox, Message
from keenharbor.clone.server import Server, free_port

__all__ = [
    "Clone",
    "CloneFacts",
    "Mailbox",
    "Message",
    "Server",
    "close_clone",
    "free_port",
    "list_clones",
    "make_clone",
    "open_clone",
]
