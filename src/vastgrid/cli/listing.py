"""What the command line lists: formats, conversions and checks, all from their declarations."""

from __future__ import annotations

import argparse
from typing import Any

from vastgrid.declarations.conversion import listed


def formats(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """List the file formats, with their options."""
    from vastgrid import catalog
    from vastgrid.reports.account import as_json

    if options.json:
        print(as_json({"formats": [_format_values(each) for each in catalog.FORMATS]}))
        return 0
    for each in catalog.FORMATS:
        does = " and ".join(word for word, able in (("read", each.read), ("written", each.write)) if able)
        print(f"{each.id:10} {each.title} ({', '.join(each.suffixes)}): {does}")
        _print_fields(each.read_params, "--read ")
        if each.write:
            _print_fields(each.write_params, "--write ")
    return 0


def conversions(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """List the conversions, with their parameters."""
    from vastgrid import catalog
    from vastgrid.reports.account import as_json

    if options.json:
        print(as_json({"conversions": [_conversion_values(each) for each in catalog.CONVERSIONS]}))
        return 0
    for each in catalog.CONVERSIONS:
        given = ", ".join(_kind_title(output) for output in each.outputs)
        print(f"{each.id:10} {each.wants()} → {given}: {each.help}")
        for role in each.inputs if len(each.inputs) > 1 else ():
            print(
                f"{'':11}{role.role}=…  names of inputs or files: {role.help or listed([k.title for k in role.kinds])}."
            )
        _print_fields(each.params, "")
    return 0


def _field_values(params: type) -> list[dict[str, Any]]:
    from vastgrid.params.declare import fields, value_text

    return [
        {
            "name": each.name,
            "label": each.param.label,
            "help": each.param.help,
            "quantity": each.param.quantity.value if each.param.quantity else None,
            "choices": list(each.choices),
            "default": value_text(each.default),
            "absent": each.param.absent if each.default is None or each.default == "" else None,
        }
        for each in fields(params)
    ]


def _format_values(each: Any) -> dict[str, Any]:
    return {
        "id": each.id,
        "title": each.title,
        "suffixes": list(each.suffixes),
        "reads": each.read is not None,
        "writes": [kind.kind for kind in each.carries.kinds] if each.write else [],
        "read_options": _field_values(each.read_params),
        "write_options": _field_values(each.write_params) if each.write else [],
    }


def _kind_title(output: Any) -> str:
    return output.kind.title if output.kind else "what came in"


def _conversion_values(each: Any) -> dict[str, Any]:
    return {
        "id": each.id,
        "title": each.title,
        "help": each.help,
        "takes": [kind.kind for kind in each.takes],
        "inputs": [
            {"role": role.role, "kinds": [kind.kind for kind in role.kinds], "least": role.least, "most": role.most}
            for role in each.inputs
        ],
        "gives": each.outputs[0].kind.kind if each.outputs[0].kind else None,
        "outputs": [
            {"name": output.name, "kind": output.kind.kind if output.kind else None, "like": output.like or None}
            for output in each.outputs
        ],
        "parameters": _field_values(each.params),
    }


def _print_fields(params: type, prefix: str) -> None:
    for each in _field_values(params):
        choices = f" One of {', '.join(each['choices'])}." if each["choices"] else ""
        default = f" Not given: {each['absent']}." if each["absent"] else f" Default {each['default']}."
        print(f"{'':11}{prefix}{each['name']}=…  {each['help']}{choices}{default}")


def checks(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """List the checks, with their thresholds."""
    from vastgrid import catalog
    from vastgrid.reports.account import as_json

    if options.json:
        values = [
            {
                "id": each.id,
                "title": each.title,
                "help": each.help,
                "takes": [kind.kind for kind in each.takes],
                "thresholds": _field_values(each.params),
            }
            for each in catalog.CHECKS
        ]
        print(as_json({"checks": values}))
        return 0
    for each in catalog.CHECKS:
        print(f"{each.id:18} {each.title}: {each.help}")
        _print_fields(each.params, "--check … ")
    return 0
