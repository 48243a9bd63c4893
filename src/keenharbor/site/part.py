"""What every table of a site file is made of."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

Text = Annotated[str, Field(min_length=1)]


class Part(BaseModel):
    """A table of the site file: unknown keys are errors, values cannot be changed."""

    model_config = ConfigDict(extra="forbid", frozen=True)
