"""Images without a name, which only a framebuffer still holds, are told."""

from __future__ import annotations

from pathlib import Path

from tests.conftest import load_opengl
from wendascope.backends.opengl.words.caveats import frame_caveats


def test_a_texture_that_only_a_framebuffer_holds_is_named(depot: Path) -> None:
    frame = load_opengl(depot)
    assert not any("was deleted" in caveat for caveat in frame_caveats(frame))
    record = next(f for f in frame.objects.framebuffers if any(a.kind == "texture" for a in f.attachments))
    held = next(a.name for a in record.attachments if a.kind == "texture")
    frame.objects.textures = [t for t in frame.objects.textures if t.name != held]
    told = [caveat for caveat in frame_caveats(frame) if "was deleted" in caveat]
    assert any(f"framebuffer {record.name} holds texture {held}" in caveat for caveat in told), told
