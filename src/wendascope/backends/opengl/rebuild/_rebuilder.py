"""Makes a frame's objects, and puts back what the frame writes."""

from __future__ import annotations

import struct

from wendascope.backends.opengl.calls.packed import CallBatch, Executor
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import Objects, RenderbufferRecord, TextureRecord
from wendascope.backends.opengl.rebuild._blits import (
    WINDOW_COLOUR,
    WINDOW_DEPTH,
    BlitSource,
    blit_sources,
    multisample_source,
    renderbuffer_source,
)
from wendascope.backends.opengl.rebuild._containers import (
    define_buffer,
    define_feedback,
    define_framebuffer,
    define_pipeline,
    define_renderbuffer,
    define_vertex_array,
    restore_buffer,
)
from wendascope.backends.opengl.rebuild._programs import build_programs, define_uniforms
from wendascope.backends.opengl.rebuild._site import Site
from wendascope.backends.opengl.rebuild._state import set_state
from wendascope.backends.opengl.rebuild._textures import define_texture, restore_texture, set_parameter
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.tables.written import Written
from wendascope.errors import ReplayError
from wendascope.frame.blobs import BlobRef
from wendascope.registry import GL

_GENERATORS = {
    "buffer": "glGenBuffers",
    "texture": "glGenTextures",
    "sampler": "glGenSamplers",
    "renderbuffer": "glGenRenderbuffers",
    "framebuffer": "glGenFramebuffers",
    "vertex array": "glGenVertexArrays",
    "query": "glGenQueries",
    "program pipeline": "glGenProgramPipelines",
    "transform feedback": "glGenTransformFeedbacks",
}

_DELETERS = {
    "buffer": "glDeleteBuffers",
    "framebuffer": "glDeleteFramebuffers",
    "renderbuffer": "glDeleteRenderbuffers",
    "texture": "glDeleteTextures",
    "vertex array": "glDeleteVertexArrays",
}
_KEPT_EDITS = 4


class Rebuilder:
    """Makes the frame's objects here, and can put any of them back to what they were."""

    def __init__(self, frame: OpenGLFrame, executor: Executor) -> None:
        self.site = Site(frame, executor, Offers(frame.context))
        self._sources: dict[tuple[str, int], BlitSource] = {}
        self._other_sources: dict[tuple[str, int, BlobRef | None], BlitSource] = {}
        """Of contents other than the frame's own, which edits bring in."""
        self._added: list[dict[str, list[int]]] = []
        """Of each edit, class -> names here of what it brought in."""

    def build(self) -> None:
        """Make every object. Raises ReplayError when the driver refuses."""
        site = self.site
        site.caveats += self._make(site.frame.objects)
        self._sources = blit_sources(site)
        batch = site.batch()
        for source in self._sources.values():
            source.blit(batch)
        site.executor.run(batch)

    def add(self, objects: Objects) -> None:
        """Make further objects, which edits bring in. Those of the last few edits stay, so that what was prepared with
        them still runs, also where both gave their objects the same names. Raises ReplayError.
        """
        while len(self._added) >= _KEPT_EDITS:
            self._remove(self._added.pop(0))
        failed = self._make(objects)
        names = self.site.names
        self._added.append(
            {
                class_name: [names.get(class_name, item.name) for item in made]
                for class_name, made in (
                    ("buffer", objects.buffers),
                    ("framebuffer", objects.framebuffers),
                    ("texture", objects.textures),
                    ("renderbuffer", objects.renderbuffers),
                    ("vertex array", objects.vertex_arrays),
                    ("program", objects.programs),
                )
            }
        )
        if failed:
            raise ReplayError(failed[0])

    def _remove(self, added: dict[str, list[int]]) -> None:
        batch = self.site.batch()
        for class_name, command in _DELETERS.items():
            here = added[class_name]
            if here:
                batch.call(command, len(here), struct.pack(f"<{len(here)}I", *here))
        for program in added["program"]:
            batch.call("glDeleteProgram", program)
        self.site.executor.run(batch)

    def _make(self, objects: Objects) -> list[str]:
        """Returns a line for each program that does not link."""
        site = self.site
        for class_name, names in (
            ("buffer", [b.name for b in objects.buffers]),
            ("texture", [t.name for t in objects.textures if not t.is_default]),
            ("sampler", [s.name for s in objects.samplers]),
            ("renderbuffer", [r.name for r in objects.renderbuffers]),
            ("framebuffer", [f.name for f in objects.framebuffers]),
            ("vertex array", [v.name for v in objects.vertex_arrays if v.name]),
            ("query", objects.queries),
            ("program pipeline", [p.name for p in objects.pipelines]),
            ("transform feedback", [f.name for f in objects.feedbacks]),
        ):
            self.generate(class_name, names)
        for texture in objects.textures:
            if texture.is_default:
                site.names.set("texture", texture.name, 0)
        batch = site.upload_batch()
        for buffer in objects.buffers:
            define_buffer(site, batch, buffer)
            batch = site.flush(batch)
        for texture in sorted(objects.textures, key=lambda t: t.view_of > 0):  # what they view comes first
            define_texture(site, batch, texture)
            batch = site.flush(batch)
        for sampler in objects.samplers:
            for name, values in sampler.parameters.items():
                set_parameter(batch, "glSamplerParameter", site.names.get("sampler", sampler.name), name, values)
        for renderbuffer in objects.renderbuffers:
            define_renderbuffer(site, batch, renderbuffer)
        site.executor.run(batch)
        failed = build_programs(site, objects)
        batch = site.upload_batch()
        for framebuffer in objects.framebuffers:
            define_framebuffer(site, batch, framebuffer)
        for vertex_array in objects.vertex_arrays:
            define_vertex_array(site, batch, vertex_array)
        for program in (*objects.programs, *objects.relinked):
            define_uniforms(site, batch, program)
        for pipeline in objects.pipelines:
            define_pipeline(site, batch, pipeline)
        for feedback in objects.feedbacks:
            define_feedback(site, batch, feedback)
        site.executor.run(batch)
        return failed

    def generate(self, class_name: str, captured: list[int]) -> None:
        """Reserve a name here for each captured one."""
        if not captured or class_name not in _GENERATORS:
            return
        batch = CallBatch()
        out = batch.out(4 * len(captured))
        batch.call(_GENERATORS[class_name], len(captured), out)
        self.site.executor.run(batch)
        for name, here in zip(captured, out.uints(), strict=True):
            self.site.names.set(class_name, name, here)

    def define_images(self, textures: list[TextureRecord], renderbuffers: list[RenderbufferRecord]) -> None:
        """Make textures and renderbuffers whose names are known here."""
        batch = self.site.upload_batch()
        for texture in textures:
            define_texture(self.site, batch, texture)
        for renderbuffer in renderbuffers:
            define_renderbuffer(self.site, batch, renderbuffer)
        self.site.executor.run(batch)

    def restore_batches(self, written: Written, images: bool = True) -> list[CallBatch]:
        """Calls that put back what the frame writes, and then the context state. Without `images`, contents of
        textures, renderbuffers and the window stay.
        """
        site, objects = self.site, self.site.frame.objects
        batch = site.upload_batch()
        for buffer in objects.buffers:
            if buffer.name in written.buffers:
                restore_buffer(site, batch, buffer)
        if images:
            self._restore_images(batch, written)
        self._restore_framebuffers(batch, written)
        for vertex_array in objects.vertex_arrays:
            if vertex_array.name in written.vertex_arrays:
                define_vertex_array(site, batch, vertex_array)
        for program in (*objects.programs, *objects.relinked):
            if program.name in written.programs:
                define_uniforms(site, batch, program)
        for pipeline in objects.pipelines:
            if pipeline.name in written.pipelines:
                define_pipeline(site, batch, pipeline)
        for feedback in objects.feedbacks:
            define_feedback(site, batch, feedback)
        state = site.batch()
        set_state(site, state)
        return [batch, state]

    def _restore_images(self, batch: CallBatch, written: Written) -> None:
        """Textures, renderbuffers and the window."""
        site, objects = self.site, self.site.frame.objects
        for texture in objects.textures:
            if texture.name not in written.textures:
                continue
            source = self._sources.get(("texture", texture.name))
            if source:
                source.blit(batch)
            else:
                restore_texture(site, batch, texture, texture.name in written.redefined_textures)
        renderbuffers = [("renderbuffer", r.name) for r in objects.renderbuffers if r.name in written.renderbuffers]
        for key in (*renderbuffers, WINDOW_COLOUR, WINDOW_DEPTH):
            if key in self._sources:
                self._sources[key].blit(batch)

    def images_batch(self, textures: list[TextureRecord], renderbuffers: list[RenderbufferRecord]) -> CallBatch:
        """Calls that give images other contents, which the frame's blobs hold. They leave state behind. Raises
        ReplayError.
        """
        site, batch = self.site, self.site.upload_batch()
        for texture in textures:
            if texture.target == GL.TEXTURE_2D_MULTISAMPLE:
                self._other_source(("texture", texture.name, texture.images[0].contents), batch, texture)
            else:
                restore_texture(site, batch, texture, redefine=False)
        for renderbuffer in renderbuffers:
            self._other_source(("renderbuffer", renderbuffer.name, renderbuffer.contents), batch, renderbuffer)
        return batch

    def _other_source(
        self, key: tuple[str, int, BlobRef | None], batch: CallBatch, record: TextureRecord | RenderbufferRecord
    ) -> None:
        if key not in self._other_sources:
            make = multisample_source if isinstance(record, TextureRecord) else renderbuffer_source
            self._other_sources[key] = make(self.site, record)  # type: ignore[arg-type]
        self._other_sources[key].blit(batch)

    def _restore_framebuffers(self, batch: CallBatch, written: Written) -> None:
        for framebuffer in self.site.frame.objects.framebuffers:
            if framebuffer.name in written.framebuffers:
                define_framebuffer(self.site, batch, framebuffer)

    def redefine_vertex_arrays(self) -> None:
        batch = self.site.batch()
        for vertex_array in self.site.frame.objects.vertex_arrays:
            define_vertex_array(self.site, batch, vertex_array)
        self.site.executor.run(batch)
