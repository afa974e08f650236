"""The context state before the frame, by the one state table."""

from __future__ import annotations

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.rebuild._site import Site
from wendascope.backends.opengl.state.set_state import set_buffers, set_targets, set_textures, set_values
from wendascope.backends.opengl.state.state_table import PATTERNS, TEXTURE_TARGETS
from wendascope.registry import GL

_Bindings = dict[str, dict[tuple[int, int], tuple[int, ...]]]
_BOUND = (
    "texture sampler image transform_feedback indexed_buffer vertex_array buffer renderbuffer framebuffer pipeline"
    " program"
).split()


def set_state(site: Site, batch: CallBatch) -> None:
    """The whole context state before the frame, and every binding that the frame touches."""
    set_values(batch, site.offers, site.frame.state)
    bound = _bindings(site)
    set_textures(batch, bound, site.names.get)
    # unit 0 served the uploads: nothing of ours may stay bound there
    batch.call("glActiveTexture", GL.TEXTURE0)
    for name, binding in TEXTURE_TARGETS.items():
        if site.offers.value(getattr(GL, binding)) and (GL.TEXTURE0, getattr(GL, name)) not in bound["texture"]:
            batch.call("glBindTexture", getattr(GL, name), 0)
    batch.call("glActiveTexture", site.frame.state.get("active_texture", {}).get((0, 0), (0,))[0] or GL.TEXTURE0)
    set_buffers(batch, site.offers, bound, site.names.get)
    _window_buffers(site, batch)
    set_targets(batch, site.offers, bound, site.names.get)


def _bindings(site: Site) -> _Bindings:
    """What is bound before the frame wherever something is bound then or in the frame."""
    state, history = site.frame.state, site.frame.history
    found: _Bindings = {}
    for name in _BOUND:
        nothing = (0,) * len(PATTERNS[name].kinds)
        before = state.get(name, {})
        found[name] = {key: before.get(key, nothing) for key in sorted({*history.keys(name), *before})}
    # glBindTextureUnit binds every target of a unit, each of which is set by itself
    found["texture"] = {key: value for key, value in found["texture"].items() if key[1]}
    for target in (GL.ARRAY_BUFFER, GL.COPY_WRITE_BUFFER, GL.PIXEL_UNPACK_BUFFER):  # these served the uploads
        found["buffer"].setdefault((target, 0), (0,))
    for name in ("transform_feedback", "vertex_array", "renderbuffer", "pipeline", "program"):
        found[name].setdefault((0, 0), (0,))
    for target in (GL.DRAW_FRAMEBUFFER, GL.READ_FRAMEBUFFER):
        found["framebuffer"].setdefault((target, 0), (0,))
    return found


def _window_buffers(site: Site, batch: CallBatch) -> None:
    window, call = site.frame.default_framebuffer, batch.call
    call("glBindFramebuffer", GL.FRAMEBUFFER, 0)
    if site.offers("glDrawBuffer"):
        # a pbuffer may have a front buffer only: the second call is refused where there is no back
        for buffer in (GL.FRONT, window.draw_buffer):
            call("glDrawBuffer", GL.NONE if window.draw_buffer == GL.NONE else buffer)
        for buffer in (GL.FRONT, window.read_buffer):
            call("glReadBuffer", buffer)
