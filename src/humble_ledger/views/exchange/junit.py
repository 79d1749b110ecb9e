"""A check of limits as JUnit XML: a test suite of each file, a test case of each limit.

The elements are those that CI servers agree on: testsuites, testsuite, testcase, failure,
skipped, error.
"""

from __future__ import annotations

from itertools import groupby
from xml.etree import ElementTree as ET  # only written here, never read

from humble_ledger.core.limits.model import Checked, CheckedStatement, CheckOfAll, Outcome
from humble_ledger.core.limits.outline import difference
from humble_ledger.views.escaping import escaped
from humble_ledger.views.wording import in_words


def junit_of(found: CheckOfAll) -> bytes:
    """The document, in UTF-8."""
    root = ET.Element("testsuites", name="limits")
    for place, statements in groupby(found.statements, key=_file_of):
        suite = ET.SubElement(root, "testsuite", name=escaped(place))
        for each in statements:
            _cases(suite, each)
        for name, counted in (("tests", "testcase"), ("failures", "failure"),
                              ("errors", "error"), ("skipped", "skipped")):  # fmt: skip
            suite.set(name, str(sum(1 for _ in suite.iter(counted))))
    for name in ("tests", "failures", "errors"):
        root.set(name, str(sum(int(suite.get(name, "0")) for suite in root)))
    ET.indent(root)
    return bytes(ET.tostring(root, encoding="utf-8", xml_declaration=True)) + b"\n"


def _file_of(each: CheckedStatement) -> str:
    return each.limited.place.rpartition(":")[0] or each.limited.place


def _cases(suite: ET.Element, each: CheckedStatement) -> None:
    name = each.limited.name
    if each.fault:
        case = _case(suite, each, "plan")
        ET.SubElement(case, "error", message=escaped(each.fault)).text = _text(each)
    told = bool(each.fault)  # the statement and its plan once, at the first limit that is broken
    for check in each.checks:
        case = _case(suite, each, check.limit)
        if check.outcome is Outcome.BROKEN:
            failure = ET.SubElement(case, "failure", message=escaped(f"{name}: {_said(check)}"))
            failure.text = "" if told else _text(each)
            told = True
        elif check.outcome is Outcome.UNKNOWN:
            ET.SubElement(case, "skipped", message=escaped(in_words(check.why)))


def _case(suite: ET.Element, each: CheckedStatement, limit: str) -> ET.Element:
    return ET.SubElement(
        suite, "testcase", classname=escaped(each.limited.name), name=escaped(limit),
        file=escaped(_file_of(each)), line=str(each.limited.line),
    )  # fmt: skip


def _said(check: Checked) -> str:
    why = f" ({in_words(check.why)})" if check.why else ""
    allowed, found = in_words(check.allowed), in_words(check.found)
    return f"{check.limit} allowed {allowed}, found {found}{why}"


def _text(each: CheckedStatement) -> str:
    lines = [each.limited.place, each.limited.statement.sql]
    if each.plan_changed:
        lines += ["", "The plan has changed:", *difference(each.limited.outline, each.outline)]
    return escaped("\n".join(lines))
