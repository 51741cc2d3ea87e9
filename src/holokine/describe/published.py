"""The JSON schema of assembly files, for editors."""

from __future__ import annotations

from typing import Any

from holokine.describe.schema import Description

__all__ = ["published_schema"]


def published_schema() -> dict[str, Any]:
    """JSON schema (draft 2020-12) of an assembly file, with keys as files write them.

    What a schema cannot say (names that must exist, units that must fit, options that need one another) is checked when
    the file is read.
    """
    schema = Description.model_json_schema(mode="validation")
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Holokine assembly file, format 1"
    return schema
