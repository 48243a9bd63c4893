"""What a person wants to become of an extension."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

REPLACE = "replace-by:"


@dataclass(frozen=True)
class Choice:
    """What a person wants to become of an extension: to be updated to a ``version``, or replaced by the ``other``."""

    action: Literal["keep", "remove", "switch-off", "replace", "update"]
    version: str = ""
    other: str = ""

    @classmethod
    def of(cls, text: str) -> Choice:
        """From ``keep``, ``remove``, ``switch-off``, ``replace-by:NAME``, or a version."""
        by_word: dict[str, Choice] = {"keep": cls("keep"), "remove": cls("remove"), "switch-off": cls("switch-off")}
        if text in by_word:
            return by_word[text]
        if text.startswith(REPLACE):
            return cls("replace", other=text.removeprefix(REPLACE))
        return cls("update", text)
