"""JUnit XML, which every CI system reads: a suite for each frame, a case for each limit."""

from __future__ import annotations

import xml.etree.ElementTree as ET

from wendascope.report.checks._registry import check_form
from wendascope.texts import visible
from wendascope.trials.checks.checking import Checked, State


@check_form("junit", "test results for CI systems")
def junit(found: Checked) -> str:
    """What cannot be told is skipped, unless the budget makes a failure of it."""
    root = ET.Element("testsuites", name="wendascope check")
    for frame in found.frames:
        failed, skipped = len(frame.counted("fail")), len(frame.counted("warn"))
        suite = ET.SubElement(
            root, "testsuite", name=visible(frame.file), tests=str(len(frame.checks)), failures=str(failed),
            skipped=str(skipped), errors="0",
        )  # fmt: skip
        for item in frame.checks:
            case = ET.SubElement(
                suite, "testcase", name=visible(f"{item.what} ({item.where})"), classname=visible(frame.file)
            )
            text = visible(item.sentence)
            if item.counts_as == "fail":
                ET.SubElement(case, "failure", message=text, type=item.state.value).text = text
            elif item.counts_as == "warn":
                ET.SubElement(case, "skipped", message=text)
            elif item.state is State.UNSURE:
                ET.SubElement(case, "system-out").text = text
        for warning in frame.warnings:
            ET.SubElement(suite, "system-err").text = visible(warning)
    ET.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="unicode") + "\n"
