"""Writes feed.schema.json from the models that read feeds."""

from __future__ import annotations

import json
from pathlib import Path

from keenharbor.site.feed import FeedModel

text = json.dumps(FeedModel.model_json_schema(), indent=1, ensure_ascii=False)
(Path(__file__).parent / "feed.schema.json").write_text(text + "\n", encoding="utf-8")
