"""A fragment shader whose depth test comes first, whatever it discards: to see what testing late costs."""

from __future__ import annotations

import re

from wendascope.errors import TrialError

_VERSION = re.compile(r"^[ \t]*#[ \t]*version[ \t]+(\d+)([ \t]+es)?[^\n]*$", re.MULTILINE)
_EXTENSION = "#extension GL_ARB_shader_image_load_store : enable\n"


def early_tests(source: str) -> str:
    """Lines after the first move by one or two. Raises TrialError where the version of the language has no early
    tests.
    """
    found = _VERSION.search(source)
    number, es = (int(found[1]), bool(found[2])) if found else (110, False)
    if (es and number < 310) or (not es and number < 150):
        raise TrialError("this version of the shading language cannot ask for early tests")
    assert found is not None
    at = found.end()
    extension = "" if es or number >= 420 else _EXTENSION
    # extensions come before anything else, so the layout goes after the last of them
    extensions = [m.end() for m in re.finditer(r"^[ \t]*#[ \t]*extension[^\n]*$", source, re.MULTILINE)]
    place = max([at, *extensions])
    return source[:at] + "\n" + extension + source[at:place] + "\nlayout(early_fragment_tests) in;" + source[place:]
