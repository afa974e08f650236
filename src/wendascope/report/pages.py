"""Where reports of one page come from: templates in which every text of a file is only text."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import jinja2
from markupsafe import Markup

from wendascope.texts import visible_lines


def page_template(name: str) -> jinja2.Template:
    """A template of this folder."""
    loader = jinja2.FileSystemLoader(Path(__file__).parent)
    return jinja2.Environment(loader=loader, autoescape=True, finalize=_shown).get_template(name)


def _shown(value: Any) -> Any:
    return visible_lines(value) if isinstance(value, str) and not isinstance(value, Markup) else value
