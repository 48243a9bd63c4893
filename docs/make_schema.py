"""Writes feed.schema.json and trial.schema.json from the models that read feeds and write results."""

from __future__ import annotations

import json
from pathlib import Path

from keenharbor.site.feed import FeedModel
from keenharbor.trial.result import result_schema

for name, schema in (("feed", FeedModel.model_json_schema()), ("trial", result_schema())):
    text = json.dumps(schema, indent=1, ensure_ascii=False)
    (Path(__file__).parent / f"{name}.schema.json").write_text(text + "\n", encoding="utf-8")
