"""How a model was made, as it stands in its file: written by who published it, kept with the model wherever it goes."""

from __future__ import annotations

import json

import onnx
from pydantic import Field, ValidationError

from zerotilt.core import words
from zerotilt.core.frozen import Frozen

KEY = "zerotilt.made"
"""The property of an ONNX file that holds it."""
MOST = 200_000
"""Characters of it that are read."""


class Made(Frozen):
    """What made a model. None of it is checked: it is what the file says."""

    estimator: str = Field(max_length=400, description="Class of the estimator, with its steps")
    parameters: dict[str, str] = Field(default={}, max_length=2_000)
    libraries: dict[str, str] = Field(default={}, max_length=60, description="Versions by name")
    made: str = Field(default="", max_length=40, description="UTC time, ISO 8601")
    script: str = Field(default="", max_length=100_000, description="The script or cell that made it")
    recipe: str = Field(default="", max_length=100_000, description="As JSON, where it was trained from one")
    commit: str = Field(default="", max_length=80, description="Git commit of the script's folder")
    changed: bool = Field(default=False, description="Whether the folder held changes that were not committed")
    rows: int = Field(default=0, ge=0, description="Rows on which the file was held against the estimator")
    largest_difference: float | None = Field(default=None, description="Of their predictions on these rows")

    @property
    def sentence(self) -> str:
        """What made it, in words."""
        libraries = words.listing([f"{name} {version}" for name, version in self.libraries.items()])
        parts = [f"{self.estimator}{f', with {libraries}' if libraries else ''}"]
        if self.commit:
            parts.append(
                f"git commit {self.commit[:12]}{', with changes that were not committed' if self.changed else ''}"
            )
        if self.rows and self.largest_difference is not None:
            parts.append(
                f"held against its file on {words.plural(self.rows, 'row')}: their predictions differ by "
                f"{self.largest_difference:.2g} at most"
            )
        return f"Its file says how it was made: {'; '.join(parts)}."


def written(data: bytes, made: Made) -> bytes:
    """A model file that says how it was made."""
    model = onnx.load_from_string(data)
    kept = [entry for entry in model.metadata_props if entry.key != KEY]
    del model.metadata_props[:]
    model.metadata_props.extend(kept)
    entry = model.metadata_props.add()
    entry.key, entry.value = KEY, made.model_dump_json()
    return model.SerializeToString()


def read(model: onnx.ModelProto) -> Made | None:
    """What a file says of how it was made; None where it says nothing that can be read."""
    for entry in model.metadata_props:
        if entry.key == KEY and len(entry.value) <= MOST:
            try:
                return Made.model_validate(json.loads(entry.value.replace("\x00", "")))
            except (ValueError, ValidationError, RecursionError):
                return None
    return None
