"""Decision tables as DMN 1.5 XML (OMG, chapters 8 and 13): what others draw is read, what we have is written, its diagram part included.

Files of DMN 1.1 to 1.5 are read: what is looked at has the same names in all of them. What we do not support is refused in words.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

from lxml import etree

from metrikon.core.decisions.model import ANY, BadTable, Table, table_from

MODEL = "https://www.omg.org/spec/DMN/20230324/MODEL/"
DMNDI = "https://www.omg.org/spec/DMN/20230324/DMNDI/"
DC = "http://www.omg.org/spec/DMN/20180521/DC/"
DI = "http://www.omg.org/spec/DMN/20180521/DI/"
NAMESPACE = "urn:metrikon:decisions"
NAMESPACES: Any = {None: MODEL, "dmndi": DMNDI, "dc": DC, "di": DI}
LARGEST = 5_000_000  # characters
_HITS = {each.upper(): each for each in ("unique", "any", "priority", "first", "rule order", "output order", "collect")}
_TYPES = {"dateTime": "date and time", "dayTimeDuration": "days and time duration", "yearMonthDuration": "years and months duration"}
_KNOWN = ("string", "number", "boolean", "date", "time", "date and time", "days and time duration", "years and months duration", "Any")
_NAMES = re.compile(r"[a-z][a-z0-9_]{0,39}")


def written(table: Table) -> bytes:
    """A table as DMN 1.5 XML in UTF-8."""
    root = etree.Element(f"{{{MODEL}}}definitions", nsmap=NAMESPACES)
    root.attrib.update({"id": f"definitions-{table.decision}", "name": table.decision, "namespace": NAMESPACE})
    for name in table.needs:
        given = _add(root, "inputData", id=f"given-{name}", name=name)
        _add(given, "variable", id=f"given-{name}-variable", name=name)
    decision = _add(root, "decision", id=table.decision, name=table.decision)
    if table.about:
        _add(decision, "description").text = table.about
    one = table.outputs[0].type if len(table.outputs) == 1 else "Any"
    _add(decision, "variable", id=f"{table.decision}-variable", name=table.decision, typeRef=one)
    for name in table.needs:
        required = _add(decision, "informationRequirement", id=f"needs-{name}")
        _add(required, "requiredInput", href=f"#given-{name}")
    _table(decision, table)
    _diagram(root, table)
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))


def _add(parent: Any, tag: str, /, **attributes: str) -> Any:
    return etree.SubElement(parent, f"{{{MODEL}}}{tag}", attrib=attributes)


def _text(parent: Any, tag: str, text: str, /, **attributes: str) -> None:
    _add(_add(parent, tag, **attributes), "text").text = text


def _table(decision: Any, table: Table) -> None:
    made = _add(decision, "decisionTable", id=f"{table.decision}-table", hitPolicy=table.hit.upper(), preferredOrientation="Rule-as-Row")
    if table.collect:
        made.set("aggregation", table.collect.upper())
    for each in table.inputs:
        given = _add(made, "input", id=f"input-{each.name}", **({"label": each.label} if each.label else {}))
        _text(given, "inputExpression", each.wanted, id=f"input-{each.name}-expression", typeRef=each.type)
        if each.values:
            _text(given, "inputValues", each.values, id=f"input-{each.name}-values")
    for output in table.outputs:
        label = {"label": output.label} if output.label else {}
        told = _add(made, "output", id=f"output-{output.name}", name=output.name, typeRef=output.type, **label)
        if output.values:
            _text(told, "outputValues", output.values, id=f"output-{output.name}-values")
        if output.default is not None:
            _text(told, "defaultOutputEntry", output.default, id=f"output-{output.name}-default")
    _add(made, "annotation", name="note")
    for number, rule in enumerate(table.rules, 1):
        row = _add(made, "rule", id=f"rule-{number}")
        for each in table.inputs:
            _text(row, "inputEntry", rule.when.get(each.name) or ANY, id=f"rule-{number}-{each.name}")
        for output in table.outputs:
            _text(row, "outputEntry", rule.then[output.name], id=f"rule-{number}-{output.name}-then")
        _text(row, "annotationEntry", rule.note)


def _diagram(root: Any, table: Table) -> None:
    """The requirements drawn: what is given below, the decision above."""
    diagram = etree.SubElement(etree.SubElement(root, f"{{{DMNDI}}}DMNDI"), f"{{{DMNDI}}}DMNDiagram", attrib={"id": "diagram"})

    def shape(of: str, x: int, y: int) -> None:
        made = etree.SubElement(diagram, f"{{{DMNDI}}}DMNShape", attrib={"id": f"shape-{of}", "dmnElementRef": of})
        etree.SubElement(made, f"{{{DC}}}Bounds", attrib={"x": str(x), "y": str(y), "width": "160", "height": "60"})

    shape(table.decision, 80, 40)
    for number, name in enumerate(table.needs):
        shape(f"given-{name}", 80 + 200 * number, 180)
        edge = etree.SubElement(diagram, f"{{{DMNDI}}}DMNEdge", attrib={"id": f"edge-{name}", "dmnElementRef": f"needs-{name}"})
        for x, y in ((160 + 200 * number, 180), (160, 100)):
            etree.SubElement(edge, f"{{{DI}}}waypoint", attrib={"x": str(x), "y": str(y)})


def read(text: str | bytes) -> list[Table]:
    """The decision tables in a DMN file. Raises `BadTable` with all that is wrong or not supported."""
    data = text.encode() if isinstance(text, str) else text
    if len(data) > LARGEST:
        raise BadTable([f"The file has {len(data) / 1e6:.1f} MB; at most {LARGEST / 1e6:.0f} MB are read."])
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
    try:
        root = etree.fromstring(data, parser)
    except etree.XMLSyntaxError as error:
        raise BadTable([f"The file is no XML: {error}."]) from error
    if _local(root) != "definitions" or "DMN" not in str(root.tag):
        raise BadTable(["The file is no DMN: its outermost element is not `definitions` of DMN."])
    info: Any = root.getroottree().docinfo
    if info.doctype:
        raise BadTable(["The file declares a document type, which DMN has none of. Take it out."])
    if _children(root, "import"):
        raise BadTable(["The file takes parts from other files (import), which is not supported. Put all into one file."])
    decisions = _children(root, "decision")
    if not decisions:
        raise BadTable(["The file holds no decision."])
    return [_decision(each) for each in decisions]


def _local(element: Any) -> str:
    return etree.QName(element).localname if isinstance(element.tag, str) else ""


def _children(element: Any, name: str) -> list[Any]:
    return [each for each in element if _local(each) == name]


def _said(element: Any, name: str) -> str:
    """The text of an expression within an element."""
    for each in _children(element, name):
        language = str(each.get("expressionLanguage") or "").lower()
        if language and "feel" not in language:
            raise BadTable([f"An expression is written in {each.get('expressionLanguage')}; only FEEL is supported."])
        return "".join("".join(inner.itertext()) for inner in _children(each, "text")).strip()
    return ""


def _decision(element: Any) -> Table:
    title = str(element.get("name") or element.get("id") or "decision")
    if _children(element, "knowledgeRequirement"):
        raise BadTable([f"The decision {title} uses a business knowledge model, which is not supported."])
    tables = _children(element, "decisionTable")
    if not tables:
        kinds = [
            _local(each)
            for each in element
            if _local(each) in ("literalExpression", "context", "invocation", "relation", "list", "functionDefinition")
        ]
        raise BadTable(
            [f"The decision {title} is no decision table but a {kinds[0] if kinds else 'decision without logic'}, which is not supported."]
        )
    found = tables[0]
    policy = str(found.get("hitPolicy") or "UNIQUE")
    if policy not in _HITS:
        raise BadTable([f"The decision {title} has the hit policy {policy}, which there is not."])
    inputs = list(_inputs(found))
    outputs = list(_outputs(found, title))
    about = "".join("".join(each.itertext()) for each in _children(element, "description")).strip()
    data: dict[str, Any] = {
        "metrikon": 1,
        "decision": _slug(title, "-"),
        "about": about[:1000],
        "hit": _HITS[policy],
        "inputs": inputs,
        "outputs": outputs,
        "rules": [_rule(each, number, inputs, outputs, title) for number, each in enumerate(_children(found, "rule"), 1)],
    }
    if found.get("aggregation"):
        data["collect"] = str(found.get("aggregation")).lower()
    return table_from(data)


def _inputs(table: Any) -> Iterable[dict[str, Any]]:
    taken: set[str] = set()
    for number, each in enumerate(_children(table, "input"), 1):
        expression = _said(each, "inputExpression")
        own = str(each.get("id") or "").removeprefix("input-")
        label = str(each.get("label") or "")
        name = _free(next((one for one in (own, expression) if _NAMES.fullmatch(one)), _slug(label or expression or f"input {number}", "_")), taken)
        kind = next((str(one.get("typeRef")) for one in _children(each, "inputExpression") if one.get("typeRef")), "Any")
        found = {"name": name, "label": label[:200], "type": _type(kind), "values": _said(each, "inputValues")}
        yield found | ({"expression": expression} if expression != name else {})


def _outputs(table: Any, title: str) -> Iterable[dict[str, Any]]:
    taken: set[str] = set()
    for each in _children(table, "output"):
        name = _free(_slug(str(each.get("name") or each.get("label") or title), "_"), taken)
        default = _said(each, "defaultOutputEntry")
        found = {
            "name": name,
            "label": str(each.get("label") or "")[:200],
            "type": _type(str(each.get("typeRef") or "Any")),
            "values": _said(each, "outputValues"),
        }
        yield found | ({"default": default} if default else {})


def _rule(element: Any, number: int, inputs: list[dict[str, Any]], outputs: list[dict[str, Any]], title: str) -> dict[str, Any]:
    tests = [_entry(each) for each in _children(element, "inputEntry")]
    values = [_entry(each) for each in _children(element, "outputEntry")]
    if len(tests) != len(inputs) or len(values) != len(outputs):
        raise BadTable(
            [f"Rule {number} of {title} has {len(tests)} tests and {len(values)} values; there are {len(inputs)} inputs and {len(outputs)} outputs."]
        )
    notes = [_entry(each) for each in _children(element, "annotationEntry")] or [_entry(each) for each in _children(element, "description")]
    when = {given["name"]: test for given, test in zip(inputs, tests, strict=True) if test not in ("", ANY)}
    return {
        "when": when,
        "then": {given["name"]: value or "null" for given, value in zip(outputs, values, strict=True)},
        "note": " ".join(each for each in notes if each)[:1000],
    }


def _entry(element: Any) -> str:
    language = str(element.get("expressionLanguage") or "").lower()
    if language and "feel" not in language:
        raise BadTable([f"An expression is written in {element.get('expressionLanguage')}; only FEEL is supported."])
    return "".join("".join(each.itertext()) for each in (_children(element, "text") or [element])).strip()


def _type(written: str) -> str:
    name = written.rpartition(":")[2]
    found = _TYPES.get(name, name)
    return found if found in _KNOWN else "Any"


def _slug(text: str, mark: str) -> str:
    """A name of ours made of any text."""
    made = re.sub(r"[^a-z0-9]+", mark, text.lower()).strip(mark)
    return (made if made[:1].isalpha() else f"x{mark}{made}".rstrip(mark))[:40]


def _free(name: str, taken: set[str]) -> str:
    """A name that is not taken yet."""
    found, number = name, 1
    while found in taken:
        number += 1
        found = f"{name[:36]}_{number}"
    taken.add(found)
    return found
