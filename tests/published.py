"""The schemas that are published with the program, as a program of somebody else would hold documents against them."""

import json
from importlib.resources import files

from jsonschema import Draft202012Validator

_WHERE = {"umbrick.regimen/1": "umbrick.core.regimen", "umbrick.report/1": "umbrick.core.report"}


def faults_of(document, schema):
    """Return what is wrong with a document by a schema, in words; nothing if all is right."""
    name = schema.removeprefix("umbrick.").split("/")[0]
    published = json.loads(files(_WHERE[schema]).joinpath(f"{name}.schema.json").read_text())
    Draft202012Validator.check_schema(published)
    assert published["$id"] == schema
    return [error.message for error in Draft202012Validator(published).iter_errors(json.loads(json.dumps(document)))]
