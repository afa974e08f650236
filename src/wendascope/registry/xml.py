"""Reads the Khronos XML registry (shipped by the `glad2` build dependency) into plain records."""

from __future__ import annotations

import importlib.resources
import re
import xml.etree.ElementTree as ElementTree
from dataclasses import dataclass, field


@dataclass
class XmlParameter:
    name: str
    ctype: str
    group: str | None
    object_class: str | None
    length: str | None


@dataclass
class XmlCommand:
    name: str
    returns: str
    return_class: str | None
    alias: str | None
    parameters: list[XmlParameter] = field(default_factory=list)


@dataclass
class XmlRegistry:
    commands: list[XmlCommand]
    enums: list[tuple[str, int, tuple[str, ...]]]
    """(name, value, groups) of every enumerant, bitmask bits included."""
    offered: dict[str, list[str]]
    """Command or enumerant -> who offers it, see `_offered`."""


def read_registry() -> XmlRegistry:
    """Parse `gl.xml`. Raises ModuleNotFoundError when the build dependency is missing."""
    text = importlib.resources.files("glad").joinpath("files/gl.xml").read_bytes()
    root = ElementTree.fromstring(text)
    return XmlRegistry(_commands(root), _enums(root), _offered(root))


def _commands(root: ElementTree.Element) -> list[XmlCommand]:
    commands = {}
    for node in root.iterfind("commands/command"):
        proto = node.find("proto")
        assert proto is not None
        name = (proto.findtext("name") or "").strip()
        alias = node.find("alias")
        command = XmlCommand(
            name=name,
            returns="".join(proto.itertext()).replace(name, "").strip(),
            return_class=proto.get("class"),
            alias=alias.get("name") if alias is not None else None,
        )
        for param in node.iterfind("param"):
            pname = (param.findtext("name") or "").strip()
            text = "".join(param.itertext())
            head, _, tail = text.rpartition(pname)
            ctype = re.sub(r"\s+", " ", head).strip() + (" *" if "[" in tail else "")
            command.parameters.append(
                XmlParameter(pname, ctype, param.get("group"), param.get("class"), param.get("len"))
            )
        commands[name] = command
    return [commands[name] for name in sorted(commands)]


def _enums(root: ElementTree.Element) -> list[tuple[str, int, tuple[str, ...]]]:
    found = {}
    for block in root.iterfind("enums"):
        for node in block.iterfind("enum"):
            name, value = node.get("name"), node.get("value")
            if name and value and re.fullmatch(r"-?(0x)?[0-9A-Fa-f]+", value):
                groups = tuple(g for g in (node.get("group") or "").split(",") if g)
                found[name] = (name, int(value, 0), groups)
    return sorted(found.values())


def _offered(root: ElementTree.Element) -> dict[str, list[str]]:
    """For every name: `gl33`, `es30` (first version), `-gl32` (gone from the core profile), or an extension."""
    found: dict[str, list[str]] = {}
    for feature in root.iterfind("feature"):
        api = {"gl": "gl", "gles2": "es"}.get(feature.get("api") or "")
        if api is None:
            continue
        version = (feature.get("number") or "").replace(".", "")
        for block in feature:
            removed = block.tag == "remove"
            for node in block:
                name = node.get("name")
                if name and node.tag in ("enum", "command"):
                    found.setdefault(name, []).append(f"{'-' if removed else ''}{api}{version}")
    for extension in root.iterfind("extensions/extension"):
        for node in extension.iterfind("require/*"):
            name = node.get("name")
            if name and node.tag in ("enum", "command"):
                found.setdefault(name, []).append(extension.get("name") or "")
    return found
