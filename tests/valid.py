"""Whether a JUnit file and a SARIF file are valid by their schemas: ``valid.py JUNIT SARIF``."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import xmlschema
from jsonschema import Draft7Validator

SCHEMAS = Path(__file__).with_name("schemas")


def check_junit(text: str) -> None:
    """Raises where it is not valid."""
    xmlschema.XMLSchema(str(SCHEMAS / "junit-10.xsd")).validate(text)


def check_sarif(text: str) -> None:
    """Raises where it is not valid."""
    schema = json.loads((SCHEMAS / "sarif-2.1.0.json").read_text())
    schema["$schema"] = "http://json-schema.org/draft-07/schema#"
    Draft7Validator(schema).validate(json.loads(text))


if __name__ == "__main__":
    check_junit(Path(sys.argv[1]).read_text())
    check_sarif(Path(sys.argv[2]).read_text())
