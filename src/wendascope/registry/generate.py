"""Generates the tap's C code and the Python tables from the Khronos registry.

For every command: a wrapper that counts and forwards (recording when asked to), and an executor
entry that runs the command from packed slots. See `docs/tap-protocol.md` for the packed call.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Sequence
from pathlib import Path

import msgspec

from wendascope.registry import rules
from wendascope.registry._tables import Command, Parameter, TableFile
from wendascope.registry.numbers import c_defines
from wendascope.registry.roles import Role, roles_of
from wendascope.registry.texels import UNSIZED, TexelSize, named_size
from wendascope.registry.xml import XmlCommand, XmlParameter, read_registry

MOST_SLOTS, MOST_POINTERS = 40, 8
"""What a call holds while it is recorded."""
GENERATED_PARTS = 8
"""Files the C code is split into, so that a build uses every core."""

_SIGNED = (
    "GLint GLbyte GLshort GLsizei GLfixed GLclampx GLintptr GLintptrARB GLsizeiptr GLsizeiptrARB GLint64 GLint64EXT"
)
_UNSIGNED = "GLuint GLubyte GLushort GLuint64 GLuint64EXT GLhalf GLhalfNV GLhandleARB GLchar"
_KINDS = {
    **dict.fromkeys(_SIGNED.split(), "int"),
    **dict.fromkeys(_UNSIGNED.split(), "uint"),
    "GLenum": "enum",
    "GLbitfield": "bitfield",
    "GLboolean": "bool",
    "GLfloat": "float",
    "GLclampf": "float",
    "GLdouble": "double",
    "GLclampd": "double",
}

# The tap's own commands, run by the executor only: (name, [(parameter, C type, role, length)]).
_OWN_COMMANDS: list[tuple[str, list[tuple[str, str, str | None, str]]]] = [
    ("wendaClock", [("nanoseconds", "uint64_t *", rules.OUT, "24")]),
    ("wendaDrainedClock", [("nanoseconds", "uint64_t *", rules.OUT, "24")]),
    (
        "wendaString",
        [
            ("name", "GLenum", None, ""),
            ("index", "GLint", None, ""),
            ("size", "GLsizei", None, ""),
            ("text", "char *", rules.OUT, "tap_count(size)"),
        ],
    ),
    (
        "wendaWriteBuffer",
        [
            ("buffer", "GLuint", None, ""),
            ("offset", "GLintptr", None, ""),
            ("size", "GLsizeiptr", None, ""),
            ("data", "const void *", rules.IN, "tap_count(size)"),
        ],
    ),
    (
        "wendaReadBuffer",
        [
            ("buffer", "GLuint", None, ""),
            ("offset", "GLintptr", None, ""),
            ("size", "GLsizeiptr", None, ""),
            ("data", "void *", rules.OUT, "tap_count(size)"),
        ],
    ),
    ("wendaIndirect", [("size", "GLsizei", None, ""), ("data", "const void *", rules.IN, "tap_count(size)")]),
    ("wendaWatchBuffer", [("buffer", "GLuint", None, "")]),
    ("wendaContext", [("context", "GLuint", None, "")]),
    (
        "wendaDrawable",
        [("drawable", "GLuint64", None, ""), ("width", "GLuint", None, ""), ("height", "GLuint", None, "")],
    ),
    (
        "wendaClientArray",
        [
            ("array", "GLenum", None, ""),
            ("index", "GLuint", None, ""),
            ("size", "GLint", None, ""),
            ("type", "GLenum", None, ""),
            ("flags", "GLuint", None, ""),
            ("stride", "GLsizei", None, ""),
            ("divisor", "GLuint", None, ""),
            ("skip", "GLintptr", None, ""),
            ("length", "GLsizeiptr", None, ""),
            ("data", "const void *", rules.IN, "tap_count(length)"),
        ],
    ),
]

# Everything a program is made from, and rare calls that make objects unlike any other: kept from the moment they
# are called, since GL cannot give them back.
_JOURNAL = re.compile(
    r"gl(CreateShader|ShaderSource|CompileShader|DeleteShader|CreateProgram|AttachShader|DetachShader|LinkProgram"
    r"|DeleteProgram|BindAttribLocation|BindFragDataLocation|BindFragDataLocationIndexed|TransformFeedbackVaryings"
    r"|ProgramParameteri|ProgramBinary|CreateShaderProgramv|ShaderBinary|SpecializeShader"
    r"|CreateShaderObjectARB|ShaderSourceARB|CompileShaderARB|CreateProgramObjectARB|AttachObjectARB"
    r"|DetachObjectARB|LinkProgramARB|DeleteObjectARB|BindAttribLocationARB|BindFragDataLocationEXT"
    r"|TextureView|TextureViewEXT|EGLImageTargetTexture2DOES|MakeTextureHandleResidentARB|TexPageCommitmentARB"
    r"|BindFragDataLocationIndexedEXT|TransformFeedbackVaryingsEXT|ProgramParameteriEXT|ProgramParameteriARB)$"
)

# Where a frame may end in programs that never swap buffers.
_BOUNDARY = {
    "glReadPixels": "TAP_FRAME_END_READBACK",
    "glReadnPixels": "TAP_FRAME_END_READBACK",
    "glGetTexImage": "TAP_FRAME_END_READBACK",
    "glGetTextureImage": "TAP_FRAME_END_READBACK",
    "glDebugMessageInsert": "TAP_FRAME_END_MARKER",
    "glDebugMessageInsertARB": "TAP_FRAME_END_MARKER",
    "glDebugMessageInsertKHR": "TAP_FRAME_END_MARKER",
    "glInsertEventMarkerEXT": "TAP_FRAME_END_MARKER",
    "glStringMarkerGREMEDY": "TAP_FRAME_END_MARKER",
}

_NAME_CLASSES = {
    "buffer": "TAP_CLASS_BUFFER",
    "texture": "TAP_CLASS_TEXTURE",
    "sampler": "TAP_CLASS_SAMPLER",
    "renderbuffer": "TAP_CLASS_RENDERBUFFER",
    "framebuffer": "TAP_CLASS_FRAMEBUFFER",
    "vertex array": "TAP_CLASS_VERTEX_ARRAY",
    "program": "TAP_CLASS_PROGRAM",
    "shader": "TAP_CLASS_SHADER",
    "program pipeline": "TAP_CLASS_PIPELINE",
    "transform feedback": "TAP_CLASS_TRANSFORM_FEEDBACK",
    "query": "TAP_CLASS_QUERY",
}


def _object_class(command: str, parameter: str, written: str | None) -> str | None:
    """The class of object a parameter names, where the XML leaves it out or mixes two up."""
    if re.match(r"glBeginConditionalRender", command) and parameter == "id":
        return "query"
    if written == "program" and re.fullmatch(r"gl(Gen|Delete|Bind|Is)Programs?(ARB|NV)", command):
        return "assembly program"  # of its own namespace, not that of linked programs
    return written


def _kind(ctype: str) -> str:
    return _KINDS.get(ctype, "pointer" if "*" in ctype else "opaque")


class _Function:
    """One command on its way into C."""

    def __init__(self, number: int, xml: XmlCommand) -> None:
        self.id = number
        self.xml = xml
        self.name = xml.name
        siblings = {p.name: p.ctype for p in xml.parameters}
        self.rules: dict[str, rules.PointerRule] = {}
        self.parameters: list[Parameter] = []
        slot = 0
        for p in xml.parameters:
            kind = _kind(p.ctype)
            role = None
            if kind == "pointer":
                rule = rules.pointer_rule(xml.name, p.name, p.ctype, p.length, siblings)
                self.rules[p.name] = rule
                role = rule.role
            object_class = _object_class(xml.name, p.name, p.object_class)
            self.parameters.append(Parameter(p.name, p.ctype, kind, slot, p.group, object_class, role))
            slot += 2 if kind == "pointer" else 1
        self.returns = "void" if xml.returns == "void" else _kind(xml.returns)
        self.slots = slot + (self.returns != "void")

    def table_row(self, canonical: str) -> Command:
        return Command(
            self.id,
            self.name,
            canonical,
            self.returns,
            self.xml.return_class,
            self.slots,
            self.parameters,
            int(roles_of(self.name)),
        )

    @property
    def arguments(self) -> str:
        return ", ".join(p.name for p in self.xml.parameters)

    @property
    def declared(self) -> str:
        return ", ".join(f"{p.ctype} {p.name}" for p in self.xml.parameters) or "void"

    @property
    def pointer_type(self) -> str:
        return f"{self.xml.returns} (*)({', '.join(p.ctype for p in self.xml.parameters) or 'void'})"


def _to_slot(kind: str, expression: str) -> str:
    if kind == "float":
        return f"tap_from_float({expression})"
    if kind == "double":
        return f"tap_from_double({expression})"
    if kind == "int":
        return f"(uint64_t)(int64_t){expression}"
    if kind in ("opaque", "pointer"):
        return f"(uint64_t)(uintptr_t){expression}"
    return f"(uint64_t){expression}"


def _from_slot(kind: str, ctype: str, slot: int) -> str:
    if kind == "float":
        return f"tap_to_float(slots_[{slot}])"
    if kind == "double":
        return f"tap_to_double(slots_[{slot}])"
    if kind == "opaque":
        return f"({ctype})(uintptr_t)slots_[{slot}]"
    return f"({ctype})slots_[{slot}]"


def _name_tracking(f: _Function) -> str | None:
    """C statement that keeps the set of live object names true, or None."""
    made = Role.MAKES_NAMES in roles_of(f.name)
    if f.xml.return_class in _NAME_CLASSES and made:
        return f"tap_name_add({_NAME_CLASSES[f.xml.return_class]}, 1, &result);"
    for p in f.parameters:
        if (
            p.object_class in _NAME_CLASSES
            and p.kind == "pointer"
            and p.ctype.replace(" ", "")
            in (
                "GLuint*",
                "constGLuint*",
            )
        ):
            count = next((q.name for q in f.parameters if q.kind == "int" and q.name in ("n", "count")), None)
            if count is None:
                continue
            if p.role == rules.NAMES:
                return f"tap_name_add({_NAME_CLASSES[p.object_class]}, {count}, {p.name});"
            if f.name.startswith("glDelete"):
                kept = f" tap_kept_remove(TAP_KEPT_IMAGE, {count}, {p.name});" if p.object_class == "texture" else ""
                return f"tap_name_remove({_NAME_CLASSES[p.object_class]}, {count}, {p.name});{kept}"
    if f.name.startswith("glDelete") and len(f.parameters) == 1 and f.parameters[0].object_class in _NAME_CLASSES:
        p = f.parameters[0]
        return f"tap_name_remove({_NAME_CLASSES[str(p.object_class)]}, 1, &{p.name});"
    return None


def _memory(f: _Function) -> str:
    """C statement that follows how much memory an object has, or which debug group the thread is in; nothing for most
    commands.
    """
    names = {p.name for p in f.parameters}
    if re.fullmatch(r"glPush(DebugGroup|GroupMarker)(KHR|EXT)?", f.name):
        text = "message" if "message" in names else "marker"
        return f"tap_group_begins({text}, {'length > 0 ? length : -1' if text == 'marker' else 'length'});"
    if re.fullmatch(r"glPop(DebugGroup|GroupMarker)(KHR|EXT)?", f.name):
        return "tap_group_ends();"
    if found := re.fullmatch(r"gl(Named)?Buffer(Data|Storage)(EXT|ARB)?", f.name):
        return f"tap_buffer_stored({'buffer' if found[1] else 'tap_bound_buffer(target)'}, (int64_t)size);"
    samples = "samples" if "samples" in names else "0"
    if found := re.fullmatch(r"gl(Named)?RenderbufferStorage(Multisample)?(EXT|ANGLE|APPLE|IMG|OES)?", f.name):
        who = "renderbuffer" if found[1] else "0"
        return f"tap_renderbuffer_stored({who}, internalformat, width, height, {samples});"
    if found := re.fullmatch(r"glGenerate(Texture)?Mipmap(EXT|OES)?", f.name):
        who, target = ("texture", "0") if found[1] else ("0", "target")
        return f"tap_mipmaps_stored({who}, {target});"
    shape = r"gl(?:Compressed|Copy)?(Tex|Texture)(Image|Storage)([123])D(Multisample)?(EXT|ARB|OES)?"
    if found := re.fullmatch(shape, f.name):
        who = "texture" if found[1] == "Texture" else "0"
        target = "target" if "target" in names else "0"
        level = "level" if "level" in names else "0"
        levels = "levels" if "levels" in names else "1" if found[4] else "0"
        height, depth = ("height" if "height" in names else "1"), ("depth" if "depth" in names else "1")
        size = f"(GLenum)internalformat, width, {height}, {depth}, {samples}"
        return f"tap_image_stored({who}, {target}, {level}, {levels}, {size});"
    return ""


def _draw_count(f: _Function) -> str:
    if not re.match(r"gl(Multi)?Draw(Range)?(Arrays|Elements|Mesh)", f.name):
        return ""
    names = {p.name for p in f.parameters if p.kind == "int"}
    vertices = "count" if "count" in names else "0"
    if "end" in {p.name for p in f.parameters} and "count" not in names:
        vertices = "0"
    for many in ("instancecount", "primcount"):
        if many in names and vertices == "count":
            vertices = f"count * (uint64_t){many}"
            break
    return f" TAP_COUNT(tap_counts.draws, 1); TAP_COUNT(tap_counts.vertices, (uint64_t){vertices});"


def _wrapper(f: _Function) -> str:
    """The wrapper of one command: counted always, passed on at once where nobody records, packed otherwise."""
    returns = f.xml.returns
    value = returns != "void"
    tracking, memory = _name_tracking(f), _memory(f)
    journal = bool(_JOURNAL.match(f.name))
    image, finish = _kept_image(f), _LISTS.get(f.name, "")
    lines = [
        f"TAP_EXPORT {returns} {f.name}({f.declared}) {{",
        f"  {f.pointer_type.replace('(*)', '(*real)')} = ({f.pointer_type})tap_real({f.id});",
        f"  TAP_COUNT(tap_counts.calls, 1);{_draw_count(f)}",
        f"  if (!real) return{' (' + returns + ')0' if value else ''};",
    ]
    if f.name == "glGetError":
        lines.append("  GLenum kept = tap_take_error(); if (kept) return kept;")
    if not (tracking is not None or journal or image or finish):
        idle = "__builtin_expect(__atomic_load_n(&tap_mode, __ATOMIC_RELAXED) == 0, 1)"
        lines.append(f"  if ({idle}) {f'{{ real({f.arguments}); {memory} return; }}' if memory else _passed_on(f)}")
    if value:
        lines.append(f"  {returns} result;")
    if f.name in _BOUNDARY:
        lines.append(f"  tap_at_marker({_BOUNDARY[f.name]});")
    lines += ["  TapCall call_;", f"  tap_call_open(&call_, {f.id}, {f.slots}, {int(journal)});"]
    if image:
        lines.append(f"  {image}")
    if f.name == "glEndList":
        lines.append("  call_.list_call = 0;")
    lines += [f"  call_.s[{p.slot}] = {_to_slot(p.kind, p.name)};" for p in f.parameters if p.kind != "pointer"]
    lines += _recorded_call(f)
    lines += [f"  {statement}" for statement in (tracking, memory) if statement]
    if value:
        lines.append(f"  call_.s[{f.slots - 1}] = {_to_slot(f.returns, 'result')};")
    lines.append("  tap_call_close(&call_);")
    if finish:
        lines.append(f"  {finish}")
    if value:
        lines.append("  return result;")
    lines.append("}")
    return "\n".join(lines)


def _passed_on(f: _Function) -> str:
    """What a wrapper does while nobody records."""
    call, returns = f"real({f.arguments})", f.xml.returns
    value = returns != "void"
    if Role.WAITS not in roles_of(f.name):
        return f"return {call};" if value else f"{{ {call}; return; }}"
    taken = "tap_waited_ns += tap_now() - began_;"
    if value:
        return f"{{ uint64_t began_ = tap_now(); {returns} waited_ = {call}; {taken} return waited_; }}"
    return f"{{ uint64_t began_ = tap_now(); {call}; {taken} return; }}"


def _recorded_call(f: _Function) -> list[str]:
    """The call itself with its times, and what its pointers lead to: inputs before it, outputs after."""
    inputs: list[str] = []
    outputs: list[str] = []
    for p in f.parameters:
        if p.kind == "pointer":
            rule = f.rules[p.name]
            target = outputs if rule.role == rules.NAMES else inputs
            target.append(_record_pointer(f, p, rule))
    waits = Role.WAITS in roles_of(f.name)
    lines = [f"  if (call_.active) {{ {' '.join(inputs)} {_before(f)} }}"]
    if waits:
        lines += ["  tap_call_waits(&call_);", "  uint64_t began_ = tap_now();"]
    keep = "result = " if f.xml.returns != "void" else ""
    lines += ["  tap_call_start(&call_);", f"  {keep}real({f.arguments});", "  tap_call_stop(&call_);"]
    if waits:
        lines.append("  tap_waited_ns += tap_now() - began_;")
    after = " ".join([*outputs, _after(f)]).strip()
    if after:
        lines.append(f"  if (call_.active) {{ {after} }}")
    return lines


# What display lists are made by, and what follows each call.
_LISTS = {
    "glNewList": "tap_list_begin(list, mode);",
    "glEndList": "tap_list_end();",
    "glDeleteLists": "tap_lists_delete(list, range);",
}


def _kept_image(f: _Function) -> str:
    """C statement that keeps what OpenGL ES will not tell of a texture image; see kept.c."""
    name = re.sub("(OES|EXT|ARB)$", "", f.name)
    names = {p.name for p in f.parameters}
    if re.fullmatch(r"gl(Compressed)?TexImage[23]D", name):
        return f"tap_keep_image(&call_, target, level, {'format' if 'type' in names else '0'}, 1);"
    if re.fullmatch(r"gl(Compressed)?TexSubImage[23]D", name):
        return f"tap_keep_image(&call_, target, level, {'format' if 'type' in names else '0'}, 0);"
    if name == "glCopyTexImage2D":
        return "tap_keep_image(&call_, target, level, internalformat, 1);"
    if re.fullmatch(r"glTexStorage[23]D", name):
        return f"tap_keep_image(&call_, target, {rules.ALL_LEVELS}, GL_RGBA, 1);"
    if name == "glGenerateMipmap":
        return f"tap_keep_image(&call_, target, {rules.MIPMAPS}, GL_RGBA, 1);"
    return ""


def _before(f: _Function) -> str:
    """What must be kept before the call: arrays in client memory, contents of mappings that it ends or flushes."""
    if f.name in ("glUnmapBuffer", "glUnmapBufferARB", "glUnmapBufferOES"):
        return "tap_keep_mapping(tap_bound_buffer(target), 0, -1);"
    if f.name in ("glUnmapNamedBuffer", "glUnmapNamedBufferEXT"):
        return "tap_keep_mapping(buffer, 0, -1);"
    if f.name in ("glFlushMappedBufferRange", "glFlushMappedBufferRangeEXT"):
        return "tap_keep_mapping(tap_bound_buffer(target), offset, length);"
    if f.name in ("glFlushMappedNamedBufferRange", "glFlushMappedNamedBufferRangeEXT"):
        return "tap_keep_mapping(buffer, offset, length);"
    if Role.WAITS in roles_of(f.name):
        return "tap_compare_mappings();"
    return _client_arrays(f)


def _client_arrays(f: _Function, running: bool = False) -> str:
    """C statement about the arrays in client memory that a draw reads: they are kept, or, in a run, must lie in the
    run's own data.
    """
    names = {p.name for p in f.parameters}
    prefix, first = ("tap_run_arrays", "run_") if running else ("tap_arrays", "&call_")
    if re.match(r"glArrayElement(EXT)?$", f.name):
        return "" if running else "tap_array_element(&call_);"
    if not re.match(r"gl(Multi)?Draw(Range)?(Arrays|Elements)", f.name):
        return ""
    if "indirect" in names:
        draws = next((n for n in ("maxdrawcount", "drawcount", "primcount") if n in names), "1")
        count_at = "drawcount" if "maxdrawcount" in names else "-1"
        stride, unit = "stride" if "stride" in names else "0", 20 if "Elements" in f.name else 16
        if (
            running
        ):  # how many elements it reads stands in memory that is not looked into: client arrays are never long enough
            return "tap_run_arrays(run_, 0, INT64_MAX, 1, 0);"
        return f"tap_indirect(&call_, indirect, {count_at}, {draws}, {stride}, {unit});"
    if "count" not in names:
        return ""
    instances = next((n for n in ("instancecount", "primcount") if n in names), "1")
    base = "baseinstance" if "baseinstance" in names else "0"
    if f.name.startswith("glMulti"):
        draws = "drawcount" if "drawcount" in names else "primcount"
        if "first" in names:
            return f"{prefix}_multi({first}, first, count, {draws});"
        vertex = "basevertex" if "basevertex" in names else "NULL"
        mode = "" if running else "mode, "
        return (
            f"{prefix}_split({first}, {mode}count, type, (const void *const *)indices, {draws}, {vertex});"
            if "indices" in names
            else ""
        )
    if "first" in names:
        return f"{prefix}({first}, first, count, {instances}, {base});"
    if "indices" in names:
        vertex = "basevertex" if "basevertex" in names else "0"
        return f"{prefix}_indexed({first}, type, indices, count, {vertex}, {instances}, {base});"
    return ""


def _after(f: _Function) -> str:
    """What must be noticed after the call: mappings that stay while the program draws."""
    if f.name in ("glMapBufferRange", "glMapBufferRangeEXT"):
        return "if (call_.frame) tap_watch(tap_bound_buffer(target));"
    if f.name in ("glMapNamedBufferRange", "glMapNamedBufferRangeEXT"):
        return "if (call_.frame) tap_watch(buffer);"
    return ""


def _lengths(f: _Function) -> str:
    """The parameter that says how long each of an array of strings is."""
    return "length" if any(p.name == "length" and p.kind == "pointer" for p in f.parameters) else "NULL"


def _record_pointer(f: _Function, p: Parameter, rule: rules.PointerRule) -> str:
    where = f"&call_, {p.slot}, {p.name}"
    match rule.role:
        case rules.IN | rules.NAMES | rules.OFFSETS:
            return f"tap_in({where}, {rule.length});"
        case rules.STRINGS:
            return f"tap_strings(&call_, {p.slot}, (const char *const *){p.name}, {_lengths(f)}, {rule.length});"
        case rules.PIXELS:
            return f"tap_buffer_or_in({where}, TAP_BINDING_UNPACK, {p.name} ? {rule.length} : 0);"
        case rules.ELEMENTS:
            return f"tap_buffer_or_in({where}, TAP_BINDING_ELEMENTS, {rule.length});"
        case rules.INDIRECT:
            return f"tap_buffer_or_in({where}, TAP_BINDING_INDIRECT, {rule.length});"
        case rules.PACK:
            return f"tap_buffer_or_out({where}, TAP_BINDING_PACK);"
        case rules.RESULT:
            return f"tap_buffer_or_out({where}, TAP_BINDING_QUERY);"
        case rules.ARRAY:
            return f"tap_array_pointer({where});"
        case rules.OUT | rules.OPAQUE | rules.RETAINED:
            return f"tap_out({where});"
        case _:
            return f"tap_lost({where});"


def _fetch(f: _Function, p: Parameter, rule: rules.PointerRule) -> str:
    """C expression for a pointer that the executor hands to GL; it sets the error of the run where the pointer is
    refused.
    """
    where = f"run_, slots_, {p.slot}"
    binding = f"TAP_BINDING_{rules.BUFFERS.get(rule.role, 'NONE')}"
    text = re.search(r"tap_string_size\(\w+, (.*)\)$", rule.length)
    match rule.role:
        case rules.STRINGS:
            return f"tap_run_strings({where}, {rule.length}, {_lengths(f)})"
        case rules.OUT | rules.NAMES:
            return f"tap_run_out({where}, {rule.length if 'length' not in rule.length else '0'}, {binding})"
        case rules.PACK | rules.RESULT:
            return f"tap_run_out({where}, {rule.length}, {binding})"
        case rules.RETAINED:
            return f"tap_run_retained(run_, {rule.length})"
        case rules.OFFSETS:
            return f"tap_run_offsets({where}, {rule.length})"
        case rules.OPAQUE:
            return "0"
        case _ if text:
            return f"tap_run_text({where}, {text[1]})"
        case rules.LOST | rules.ARRAY:
            return f"tap_run_in({where}, 0, {binding})"
        case _:
            return f"tap_run_in({where}, slots_[{p.slot}] >> 60 == TAP_POINTER_RAW ? 0 : {rule.length}, {binding})"


def _executor(f: _Function) -> str:
    lines = [f"void run_{f.name}(TapRun *run_, uint64_t *slots_) {{"]
    if not f.name.startswith("wenda"):
        lines.append(f"  {f.pointer_type.replace('(*)', '(*real)')} = ({f.pointer_type})tap_real({f.id});")
        lines.append("  if (!real) { run_->error = TAP_RUN_MISSING; return; }")
    pointers = [p for p in f.parameters if p.kind == "pointer"]
    for p in f.parameters:
        if p.kind != "pointer":
            lines.append(f"  {p.ctype} {p.name} = {_from_slot(p.kind, p.ctype, p.slot)};")
    # Lengths may read other arrays (glShaderSource), so plain inputs come first.
    for p in sorted(pointers, key=lambda p: f.rules[p.name].role == rules.STRINGS):
        lines.append(f"  {p.ctype} {p.name} = ({p.ctype}){_fetch(f, p, f.rules[p.name])}; (void){p.name};")
    if pointers:
        lines.append("  if (run_->error) return;")
    if arrays := _client_arrays(f, running=True):
        lines.append(f"  if (tap_client_arrays) {{ {arrays} if (run_->error) return; }}")
    target = "" if f.returns == "void" else f"slots_[{f.slots - 1}] = "
    call = f"{f.name}_run({f.arguments})" if f.name.startswith("wenda") else f"real({f.arguments})"
    value = f"{target}{_to_slot(f.returns, call)};" if target else f"{call};"
    lines.append(f"  {value}")
    lines.append("}")
    return "\n".join(lines)


def _own_functions(first: int) -> list[_Function]:
    own = []
    for offset, (name, parameters) in enumerate(_OWN_COMMANDS):
        xml = XmlCommand(name, "void", None, None, [XmlParameter(n, t, None, None, None) for n, t, _, _ in parameters])
        function = _Function(first + offset, xml)
        for pname, _, role, length in parameters:
            if role:
                function.rules[pname] = rules.PointerRule(role, length)
        function.parameters = [
            Parameter(
                p.name,
                p.ctype,
                p.kind,
                p.slot,
                None,
                p.name if p.name in ("buffer", "drawable") else None,
                function.rules[p.name].role if p.kind == "pointer" else None,
            )
            for p in function.parameters
        ]
        own.append(function)
    return own


def generate(folder: Path) -> None:
    """Write `generated.h`, the C files and the Python tables into `folder`."""
    registry = read_registry()
    functions = [_Function(i, xml) for i, xml in enumerate(registry.commands)]
    own = _own_functions(len(functions))
    everything = functions + own
    aliases = {f.name: f.xml.alias for f in functions if f.xml.alias}

    def canonical(name: str) -> str:
        while name in aliases and aliases[name] != name:
            name = str(aliases[name])
        return name

    for f in everything:
        pointers = sum(p.kind == "pointer" for p in f.parameters)
        assert f.slots <= MOST_SLOTS and pointers <= MOST_POINTERS, (
            f"{f.name} takes more than a TapCall holds: {f.slots} slots, {pointers} pointers"
        )
    rows = [f.table_row(canonical(f.name)) for f in everything]
    fingerprint = hashlib.sha256(msgspec.json.encode(rows)).hexdigest()[:16]
    enums = [(name, value, list(groups)) for name, value, groups in registry.enums]
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "registry.msgpack").write_bytes(msgspec.msgpack.encode(TableFile(fingerprint, rows, enums)))

    (folder / "offered.msgpack").write_bytes(msgspec.msgpack.encode(registry.offered))

    texels = _texels(registry.enums)
    header = [
        "#pragma once",
        f"#define TAP_MAX_SLOTS {MOST_SLOTS}",
        f"#define TAP_MAX_POINTERS {MOST_POINTERS}",
        f"#define TAP_FUNCTIONS {len(functions)}",
        f"#define TAP_COMMANDS {len(everything)}",
        f"#define TAP_TEXELS {len(texels)}",
    ]
    header += [f'#define TAP_FINGERPRINT "{fingerprint}"']
    header += [f"#define TAP_ID_{f.name} {f.id}" for f in everything]
    header += [f"#define TAP_SLOT_{f.name}_{p.name} {p.slot}" for f in everything for p in f.parameters]
    header += c_defines()
    header += [f"#define {name} {hex(value)}u" for name, value, _ in registry.enums if value >= 0]
    (folder / "generated.h").write_text("\n".join(header) + "\n")

    tables = ['#include "tap.h"', ""]
    tables += [_c_array("const char *const tap_names", [f'"{f.name}"' for f in everything])]
    tables += [_c_array("const unsigned char tap_slots", [str(f.slots) for f in everything])]
    tables += [_c_array("const TapTexel tap_texels", texels)]
    tables += [f"void run_{f.name}(TapRun *run_, uint64_t *slots_);" for f in everything]
    tables += [_c_array("const TapRunner tap_runners", [f"run_{f.name}" for f in everything])]
    tables += [f"TAP_EXPORT {f.xml.returns} {f.name}({f.declared});" for f in functions]
    tables += [_c_array("void *const tap_wrappers", [f"(void *){f.name}" for f in functions])]
    (folder / "generated_tables.c").write_text("\n".join(tables) + "\n")
    for part in range(GENERATED_PARTS):
        mine = everything[part::GENERATED_PARTS]
        source = ['#include "tap.h"', ""]
        source += [_wrapper(f) for f in mine if not f.name.startswith("wenda")]
        source += [_executor(f) for f in mine]
        (folder / f"generated_{part}.c").write_text("\n".join(source) + "\n")


def _texels(enums: Sequence[tuple[str, int, tuple[str, ...]]]) -> list[str]:
    """Rows of the tap's table of formats, in the order of their numbers."""
    found: dict[int, TexelSize] = {bits // 8: TexelSize(bits) for bits in (8, 16, 24, 32)}
    """The first formats there were are numbers of channels."""
    for name, value, groups in enums:
        plain = name.removeprefix("GL_")
        size = TexelSize(UNSIZED[plain]) if plain in UNSIZED else named_size(plain)
        known = plain in UNSIZED or "InternalFormat" in groups or "SizedInternalFormat" in groups
        if size is not None and value > 4 and known:
            found.setdefault(value, size)
    return [
        f"{{{value:#x}u, {size.bits}, {size.width}, {size.height}, {size.depth}}}"
        for value, size in sorted(found.items())
    ]


def _c_array(declaration: str, items: list[str]) -> str:
    return f"{declaration}[{len(items)}] = {{{', '.join(items)}}};"
