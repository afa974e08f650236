"""GLSL of any version as GLSL 4.50 core, for a compiler that takes no other: the same lines, the same work.

What the fixed functions gave older shaders (`gl_Vertex`, `gl_ModelViewMatrix`, `ftransform()`) becomes plain inputs and
uniforms. The result is only looked at, never run.
"""

from __future__ import annotations

import re

from wendascope.glsl.stages import Stage
from wendascope.glsl.words import Token, tokens, words_of

VERSION = 450
_MODERN = 330
"""Core sources from here on need another number at most."""
_FUNCTIONS = {
    "texture1D": "texture",
    "texture2D": "texture",
    "texture3D": "texture",
    "textureCube": "texture",
    "texture2DRect": "texture",
    "texture2DArray": "texture",
    "texture1DArray": "texture",
    "texture1DProj": "textureProj",
    "texture2DProj": "textureProj",
    "texture3DProj": "textureProj",
    "texture2DRectProj": "textureProj",
    "texture1DLod": "textureLod",
    "texture2DLod": "textureLod",
    "texture3DLod": "textureLod",
    "textureCubeLod": "textureLod",
    "texture2DProjLod": "textureProjLod",
    "texture2DLodEXT": "textureLod",
    "textureCubeLodEXT": "textureLod",
    "texture2DProjLodEXT": "textureProjLod",
    "texture2DGradEXT": "textureGrad",
    "textureCubeGradEXT": "textureGrad",
    "texture2DGradARB": "textureGrad",
    "textureCubeGradARB": "textureGrad",
    "shadow2DEXT": "texture",
    "shadow2DProjEXT": "textureProj",
}
_SHADOWS = {
    "shadow1D": "vec4 shadow1D(sampler1DShadow s, vec3 c) { return vec4(texture(s, c)); }",
    "shadow2D": "vec4 shadow2D(sampler2DShadow s, vec3 c) { return vec4(texture(s, c)); }",
    "shadow2DProj": "vec4 shadow2DProj(sampler2DShadow s, vec4 c) { return vec4(textureProj(s, c)); }",
    "shadow2DRect": "vec4 shadow2DRect(sampler2DRectShadow s, vec3 c) { return vec4(texture(s, c)); }",
}
_INPUTS = {
    "gl_Vertex": "vec4",
    "gl_Normal": "vec3",
    "gl_Color": "vec4",
    "gl_SecondaryColor": "vec4",
    "gl_FogCoord": "float",
} | {f"gl_MultiTexCoord{k}": "vec4" for k in range(8)}
_PASSED = {
    "gl_FrontColor": "vec4",
    "gl_BackColor": "vec4",
    "gl_FrontSecondaryColor": "vec4",
    "gl_BackSecondaryColor": "vec4",
    "gl_FogFragCoord": "float",
    "gl_ClipVertex": "vec4",
}
_GIVEN = {
    "gl_ModelViewMatrix": "mat4",
    "gl_ProjectionMatrix": "mat4",
    "gl_ModelViewProjectionMatrix": "mat4",
    "gl_NormalMatrix": "mat3",
    "gl_ModelViewMatrixInverse": "mat4",
    "gl_ModelViewMatrixTranspose": "mat4",
    "gl_ModelViewMatrixInverseTranspose": "mat4",
    "gl_ProjectionMatrixInverse": "mat4",
    "gl_ModelViewProjectionMatrixInverse": "mat4",
    "gl_NormalScale": "float",
}
_GIVEN_ARRAYS = {"gl_TextureMatrix": "mat4"}
_STRUCTURES = {
    "gl_LightSource": (
        (
            "struct {0} {{ vec4 ambient, diffuse, specular, position, halfVector; vec3 spotDirection; float"
            " spotExponent, spotCutoff, spotCosCutoff, constantAttenuation, linearAttenuation,"
            " quadraticAttenuation; }};"
        ),
        "[8]",
    ),
    "gl_FrontMaterial": ("struct {0} {{ vec4 emission, ambient, diffuse, specular; float shininess; }};", ""),
    "gl_BackMaterial": ("struct {0} {{ vec4 emission, ambient, diffuse, specular; float shininess; }};", ""),
    "gl_LightModel": ("struct {0} {{ vec4 ambient; }};", ""),
    "gl_FrontLightModelProduct": ("struct {0} {{ vec4 sceneColor; }};", ""),
    "gl_FrontLightProduct": ("struct {0} {{ vec4 ambient, diffuse, specular; }};", "[8]"),
    "gl_Fog": ("struct {0} {{ vec4 color; float density, start, end, scale; }};", ""),
    "gl_Point": (
        (
            "struct {0} {{ float size, sizeMin, sizeMax, fadeThresholdSize, distanceConstantAttenuation,"
            " distanceLinearAttenuation, distanceQuadraticAttenuation; }};"
        ),
        "",
    ),
}
TAKEN_SINCE = frozenset(
    "texture sample smooth flat noperspective centroid buffer shared common filter input output active partition superp"
    " resource patch subroutine coherent volatile restrict readonly writeonly layout precise half fixed unsigned double"
    " long short cast namespace using row_major textureProj textureLod textureGrad textureSize texelFetch".split()
)
"""Words that older sources may use as names, and 4.50 may not."""
_OWN_EXTENSIONS = re.compile(
    r"#\s*extension\s+GL_(OES|EXT_shader_framebuffer|EXT_frag_depth|EXT_shader_texture_lod|EXT_draw_buffers|ARB_draw_buffers|EXT_gpu_shader4|NV_|ANGLE|APPLE|QCOM|ARM)\w*.*"
)


def upgraded(source: str, stage: int, es: bool) -> str:
    """The source with the lines it has, numbered as they were."""
    version, profile = _version(source, es)
    old = version < _MODERN or profile in ("es", "compatibility") or version == 100
    body = _without_version(source)
    if old:
        body = _translated(body, stage, version)
    head = _head(body, stage) if old else ""
    return (
        f"#version {max(VERSION, version if profile != 'es' and version <= 460 else 0)} core\n{head}#line"
        f" 1\n{_named_apart(body) if old else body}"
    )


def _version(source: str, es: bool) -> tuple[int, str]:
    found = re.search(r"^[ \t]*#[ \t]*version[ \t]+(\d+)[ \t]*(\w*)", source, re.MULTILINE)
    if found is None:
        return (100, "es") if es else (110, "")
    return int(found[1]), "es" if found[1] == "100" else found[2]


def _without_version(source: str) -> str:
    return re.sub(r"^[ \t]*#[ \t]*version[^\n]*", "", source, count=1, flags=re.MULTILINE)


def _translated(source: str, stage: int, version: int) -> str:
    source = "\n".join("" if _OWN_EXTENSIONS.match(line.strip()) else line for line in source.split("\n"))
    words = {"attribute": "in", "varying": "out" if stage == Stage.VERTEX else "in"}
    if version < 130:
        words |= {word: word + "_" for word in TAKEN_SINCE if _used_as_name(source, word)}
    words |= {name: new for name, new in _FUNCTIONS.items() if not _used_as_name(source, name)}
    return "".join(words.get(t.text, t.text) if t.kind == "word" else t.text for t in tokens(source))


def _used_as_name(source: str, word: str) -> bool:
    """Whether the source declares a variable or function of that name."""
    found = [t for t in tokens(source) if t.kind not in ("space", "comment")]
    return any(
        t.text == word
        and k > 0
        and found[k - 1].kind == "word"
        and found[k - 1].text not in ("return", "in", "out", "else", "define", "defined", "ifdef", "ifndef")
        for k, t in enumerate(found)
    )


def _head(body: str, stage: int) -> str:
    """Declarations of what the older language had built in, as far as it is used."""
    used = words_of(body)
    lines = []
    direction = "out" if stage == Stage.VERTEX else "in"
    if stage == Stage.VERTEX:
        lines += [f"in {type_} {_own(name)};" for name, type_ in _INPUTS.items() if name in used]
    elif "gl_Color" in used:
        lines.append(f"in vec4 {_own('gl_Color')};")
    lines += [f"{direction} {type_} {_own(name)};" for name, type_ in _PASSED.items() if name in used]
    if "gl_TexCoord" in used:
        lines.append(f"{direction} vec4 {_own('gl_TexCoord')}[8];")
    lines += [
        f"uniform {type_} {_own(name)};"
        for name, type_ in _GIVEN.items()
        if name in used or (name == "gl_ModelViewProjectionMatrix" and "ftransform" in used)
    ]
    lines += [f"uniform {type_} {_own(name)}[8];" for name, type_ in _GIVEN_ARRAYS.items() if name in used]
    for name, (text, array) in _STRUCTURES.items():
        if name in used:
            lines.append(f"{text.format(_own(name) + '_')} uniform {_own(name)}_ {_own(name)}{array};")
    if stage == Stage.FRAGMENT:
        lines += [f"out vec4 {_own('gl_FragColor')};"] if "gl_FragColor" in used else []
        lines += [f"out vec4 {_own('gl_FragData')}[8];"] if "gl_FragData" in used else []
    if "ftransform" in used:
        if "gl_Vertex" not in used:
            lines.append(f"in vec4 {_own('gl_Vertex')};")
        lines.append(f"vec4 ftransform() {{ return {_own('gl_ModelViewProjectionMatrix')} * {_own('gl_Vertex')}; }}")
    lines += [text for name, text in _SHADOWS.items() if name in used]
    if "gl_FragDepthEXT" in used:
        lines.append("#define gl_FragDepthEXT gl_FragDepth")
    return "".join(line + "\n" for line in lines)


_ALL = {*_INPUTS, *_PASSED, *_GIVEN, *_GIVEN_ARRAYS, *_STRUCTURES, "gl_TexCoord", "gl_FragColor", "gl_FragData"}


def _own(name: str) -> str:
    return "given_" + name.removeprefix("gl_")


def _named_apart(body: str) -> str:
    def text(t: Token) -> str:
        return _own(t.text) if t.kind == "word" and t.text in _ALL else t.text

    return "".join(text(t) for t in tokens(body))
