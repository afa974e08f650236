"""Manual pages of the commands, from what the commands themselves say of their options."""

from __future__ import annotations

import inspect
import re

import click
from click_man.man import ManPage

import wendascope
from wendascope.errors import EXIT_CODES

_DATE = "2026-12-02"
"""Of the version that `wendascope.__version__` names: pages of one version are the same wherever they are made."""


def manual_pages(command: click.Group) -> dict[str, str]:
    """File name -> manual page, one of the program and one of each command that is not hidden."""
    root = click.Context(command, info_name="wendascope")
    pages = {"wendascope.1": _page(root)}
    for name, each in command.commands.items():
        if not each.hidden:
            pages[f"wendascope-{name}.1"] = _page(click.Context(each, info_name=name, parent=root))
    return pages


def _page(context: click.Context) -> str:
    command = context.command
    text = inspect.cleandoc(command.help or "")
    page = ManPage(context.command_path)
    page.version, page.date = f"wendascope {wendascope.__version__}", _DATE
    page.short_help = _escaped(re.split(r"(?<=[.:])\s", text)[0].rstrip(".:"))
    page.synopsis = " ".join(command.collect_usage_pieces(context))
    page.description = _escaped(text)
    records = (p.get_help_record(context) for p in command.params if isinstance(p, click.Option) and not p.hidden)
    page.options = [(record[0], _escaped(record[1])) for record in records if record is not None]
    if isinstance(command, click.Group):
        page.commands = [
            (name, _escaped(inspect.cleandoc(each.help or "")))
            for name, each in command.commands.items()
            if not each.hidden
        ]
        return str(page) + _exit_codes()
    return f"{page}.SH SEE ALSO\n.BR wendascope (1)\n"


def _exit_codes() -> str:
    return ".SH EXIT STATUS\n" + "".join(f".TP\n.B {code}\n{_escaped(text)}\n" for code, text in EXIT_CODES.items())


def _escaped(text: str) -> str:
    """Text in which nothing is a request to the formatter; brackets that were kept from one markup are plain here."""
    text = text.replace(r"\[", "[")
    return re.sub(r"^(?=[.'])", r"\\&", text.replace("\\", r"\e"), flags=re.MULTILINE)
