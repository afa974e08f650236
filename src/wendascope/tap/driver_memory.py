"""What the kernel says that a process keeps in graphics memory, by the DRM client usage stats. Software drivers say
nothing.
"""

from __future__ import annotations

import re
from pathlib import Path

_LINE = re.compile(r"drm-(total|memory)-(\w+):\s*(\d+)\s*(KiB|MiB|B)?")
_UNITS = {"KiB": 1 << 10, "MiB": 1 << 20, "B": 1, None: 1}


def driver_memory(process: int, root: Path = Path("/proc")) -> dict[str, int]:
    """Region (`vram`, `gtt`, ...) -> bytes, of all devices that a process has open, each client once. Nothing where the
    kernel or the driver does not tell.
    """
    clients: dict[tuple[str, str], dict[str, int]] = {}
    try:
        files = list((root / str(process) / "fdinfo").iterdir())
    except OSError:
        return {}
    for file in files:
        try:
            text = file.read_text()
        except (OSError, UnicodeDecodeError):
            continue
        if "drm-driver:" not in text:
            continue
        device, client = (_field(text, name) for name in ("drm-pdev", "drm-client-id"))
        regions = clients.setdefault((device, client), {})
        for kind, region, number, unit in _LINE.findall(text):
            size = int(number) * _UNITS[unit or None]
            if kind == "total" or region not in regions:  # what older drivers call memory, newer ones call total
                regions[region] = size
    found: dict[str, int] = {}
    for regions in clients.values():
        for region, size in regions.items():
            found[region] = found.get(region, 0) + size
    return {region: size for region, size in found.items() if size}


def _field(text: str, name: str) -> str:
    found = re.search(rf"^{name}:\s*(\S+)", text, re.MULTILINE)
    return found[1] if found else ""
