"""What commands do, as far as the program asks: one table of name patterns, from which the build gives every command
its roles.

A role is a question that is asked of calls. A new question is one row here; nothing else matches names of commands.
"""

from __future__ import annotations

import re
from enum import IntFlag, auto


class Role(IntFlag):
    """What a command does; a command has any number of roles."""

    DRAW = auto()
    CLEAR = auto()
    CLEARS_BOUND = auto()
    """It clears the bound framebuffer, not an object that it names."""
    DISPATCH = auto()
    BLIT = auto()
    COPY = auto()
    MIPMAPS = auto()
    DRAWS_IN_LIST = auto()
    """It draws by itself where a display list runs it."""
    VERTEX = auto()
    """It adds a vertex between glBegin and glEnd."""
    PLAIN_VERTEX = auto()
    """It adds a vertex by its position alone."""
    OF_VERTEX = auto()
    """It sets what the next vertices have, and may stand between glBegin and glEnd."""
    WRITES_TEXTURE = auto()
    REDEFINES_TEXTURE = auto()
    """It gives a texture images of another size or format."""
    WRITES_BUFFER = auto()
    COPIES_TO_BUFFER = auto()
    WRITES_VERTEX_ARRAY = auto()
    CHANGES_ATTRIBUTES = auto()
    """It changes where vertex attributes come from."""
    WRITES_FRAMEBUFFER = auto()
    WRITES_PIPELINE = auto()
    WRITES_PROGRAM = auto()
    COMPILES = auto()
    """It compiles a shader or links a program."""
    SETS_UNIFORM = auto()
    SETS_NUMBERS = auto()
    """Its floating-point arguments are numbers that a program computes: uniforms and colours."""
    MAKES_LISTS = auto()
    MAKES_NAMES = auto()
    MAPS = auto()
    """It returns an address, which nothing but the tap's own calls writes through."""
    WRITES_CLIENT_MEMORY = auto()
    """It writes to memory that the executor gives it, once it knows that it is enough."""
    READS_BACK = auto()
    """It hands texels of a texture to the program."""
    READS_PIXELS = auto()
    """It hands pixels of the read framebuffer to the program."""
    WAITS = auto()
    """It can block for work issued before it."""
    HARMLESS = auto()
    """Questions, names, markers and waits: they read no binding that a picture depends on, and change none."""
    WITH_DRAW = auto()
    """A call of the tap that belongs to the draw after it."""
    STATE_UNKNOWN_AFTER = auto()
    """It changes tracked state in ways that the tracker does not follow, or the objects that state names."""
    KEEPS_ORDER = auto()
    """Steps on both sides of it must keep their sides."""
    UNFOLLOWED_READS = auto()
    """After it textures are read in ways that are not followed."""
    NOT_REPLAYED = auto()
    """Questions, names, waits and messages: they do not change the picture, and their answers have nowhere to go."""
    NOT_IN_LISTS = auto()
    """It runs at once while a display list is made, instead of becoming part of it."""


STEPS = Role.DRAW | Role.CLEAR | Role.DISPATCH | Role.BLIT | Role.COPY | Role.MIPMAPS

_PATTERNS: dict[Role, str] = {
    Role.DRAW: r"gl(Multi(Mode)?)?Draw(Arrays|Elements|RangeElements|TransformFeedback|Mesh|Pixels)|glBitmap$"
    r"|glRect[dfis]v?$|glEvalMesh|glCallLists?$|glEnd$",
    Role.CLEAR: r"glClear$|glClear(Named|)(Buffer(fv|iv|uiv|fi|Data|SubData)|Framebuffer)|glClearTex(Sub)?Image",
    Role.CLEARS_BOUND: r"glClear($|Buffer(fv|iv|uiv|fi)$)",
    Role.DISPATCH: r"glDispatchCompute",
    Role.BLIT: r"glBlit(Named)?Framebuffer|glAccum$",
    Role.COPY: r"glCopy(Tex|Image|Buffer|NamedBuffer|MultiTex|Pixels|TextureSub)",
    Role.MIPMAPS: r"glGenerate(Texture|MultiTex)?Mipmap",
    Role.DRAWS_IN_LIST: r"gl(Multi)?Draw(Arrays|Elements|RangeElements|Pixels)|glBitmap$|glRect[dfis]v?$|glEvalMesh",
    Role.VERTEX: r"glVertex[234][dfis]v?$|glVertexAttrib[1-4]\w*$|glArrayElement|glEval(Coord|Point)[12]",
    Role.PLAIN_VERTEX: r"glVertex[234][dfis]v?$",
    Role.OF_VERTEX: r"gl(Color[34](u?[bsi]|[fd])v?|Normal3[bsifd]v?|(Multi)?TexCoord[1-4][sifd]v?(ARB)?|Material[fi]v?"
    r"|EdgeFlagv?|Index(ub|[sifd])v?|FogCoord[fd]v?(EXT)?|SecondaryColor3(u?[bsi]|[fd])v?(EXT)?)$",
    Role.WRITES_TEXTURE: r"gl(Compressed)?(Tex|Texture|MultiTex)(Sub)?Image\dD|glCopy(Tex|Texture)(Sub)?Image"
    r"|glTex(ture)?Parameter|glTex(ture)?Storage|glGenerate(Texture)?Mipmap|glClearTex(Sub)?Image"
    r"|glTex(ture)?Buffer(Range)?$|glTexImage|glInvalidateTex",
    Role.REDEFINES_TEXTURE: r"gl(Compressed)?(Tex|Texture|MultiTex)Image\dD|glCopy(Tex|Texture)Image\dD"
    r"|glTex(ture)?Storage",
    Role.WRITES_BUFFER: r"gl(Named)?Buffer(Data|SubData|Storage)|glMap(Named)?Buffer|glInvalidateBuffer"
    r"|glClear(Named)?Buffer(Data|SubData)",
    Role.COPIES_TO_BUFFER: r"glCopy(Named)?BufferSubData$",
    Role.WRITES_VERTEX_ARRAY: r"gl(Enable|Disable)VertexA(ttrib|rrayAttrib)|glBindVertexBuffer"
    r"|glVertex(Attrib(I|L)?(Pointer|Format|Binding|Divisor)|BindingDivisor|Array)",
    Role.CHANGES_ATTRIBUTES: r"glVertex(Attrib(I|L)?(Pointer|\w*Format|Binding|Divisor)|BindingDivisor|Array)"
    r"|gl(En|Dis)able(VertexAttribArray|VertexArrayAttrib)|glBindVertexBuffer",
    Role.WRITES_FRAMEBUFFER: r"gl(Named)?Framebuffer(Texture|Renderbuffer|Draw|Read|Parameter)|glDrawBuffer"
    r"|glReadBuffer",
    Role.WRITES_PIPELINE: r"glUseProgramStages$|glActiveShaderProgram$",
    Role.WRITES_PROGRAM: r"glUniform|glProgramUniform|glShaderStorageBlockBinding",
    Role.COMPILES: r"gl(CompileShader|LinkProgram|ProgramBinary|SpecializeShader|CreateShaderProgramv)",
    Role.SETS_UNIFORM: r"gl(Program)?Uniform(Matrix)?\d",
    Role.SETS_NUMBERS: r"gl(Program)?Uniform\df|gl(Clear|Blend)Color$",
    Role.MAKES_LISTS: r"glNewList$|glDeleteLists$",
    Role.MAKES_NAMES: r"gl(Gen|Create)[A-Z]",
    Role.MAPS: r"glMap(Named)?Buffer(Range)?(ARB|OES|EXT)?$",
    Role.WRITES_CLIENT_MEMORY: r"gl(ReadPixels|ReadnPixels(ARB|EXT|KHR)?|FeedbackBuffer|SelectBuffer)$",
    Role.READS_BACK: r"glGet(n|Compressed)?(TexImage|TextureImage|TextureSubImage|CompressedTex)"
    r"|glGetTex(ture)?(Sub)?Image",
    Role.READS_PIXELS: r"glReadn?Pixels(ARB|EXT|KHR)?$",
    Role.WAITS: r"glFinish|gl(Client)?WaitSync|glReadPixels|glReadnPixels|glGetQueryObject|glMap(Named)?Buffer"
    r"|glGet(n)?(Tex|Texture|CompressedTex|CompressedTexture)Image|glGet(Named)?BufferSubData"
    r"|glGetQueryBufferObject",
    Role.HARMLESS: r"gl(Get|Is[A-Z]|PushDebugGroup|PopDebugGroup|PushGroupMarker|PopGroupMarker|InsertEventMarker"
    r"|StringMarker|ObjectLabel|ObjectPtrLabel|DebugMessage|Flush|Finish|Gen[A-Z](?!.*Mipmap)|FenceSync"
    r"|ClientWaitSync|WaitSync|DeleteSync)",
    Role.WITH_DRAW: r"wenda(ClientArray|Indirect|WatchBuffer)",
    Role.STATE_UNKNOWN_AFTER: r"gl(VertexArray\w+EXT$|(Enable|Disable)VertexArray(Attrib)?EXT$"
    r"|Push(Client)?Attrib|Pop(Client)?Attrib|CallLists?$|Delete[A-Z]|LinkProgram|ProgramBinary|UseProgramStages|ActiveShaderProgram|NewList|EndList|Begin$|End$|TextureParameter"
    r"|BindMultiTexture)|wenda(Context|Drawable)",
    Role.KEEPS_ORDER: r"gl((Begin|End)(Query|Conditional|TransformFeedback)|(Pause|Resume)TransformFeedback"
    r"|(Compressed|Copy)?(Tex|Texture)(Sub)?Image|GenerateMipmap|MemoryBarrier|TextureBarrier|ReadPixels"
    r"|InvalidateFramebuffer|Call|NewList|EndList|CopyImage|Framebuffer(Tex|Ren)|DrawBuffer|ClearBuffer|ClearTex)"
    r"|wendaContext",
    Role.UNFOLLOWED_READS: r"gl(MakeTextureHandleResident|GetTextureHandle|GetImageHandle|UniformHandle"
    r"|ProgramUniformHandle|CallList|EGLImageTarget|TextureView|ImportMemory)",
    Role.NOT_REPLAYED: r"gl(Get|Is[A-Z]|Gen(?!erate)|Create|AreTextures|FenceSync|ClientWaitSync|WaitSync"
    r"|DeleteSync|DebugMessage|ObjectLabel|ObjectPtrLabel|InsertEventMarker|StringMarker|Delete(?!Lists))",
    Role.NOT_IN_LISTS: r"gl(Named)?Buffer(Data|SubData|Storage)|gl(Map|Unmap|FlushMapped)(Named)?Buffer"
    r"|gl(Copy|Clear|Invalidate)(Named)?Buffer(Sub)?Data|gl\w*Pointer|glInterleavedArrays"
    r"|gl(Enable|Disable)(Client(State)?|VertexAttribArray)|gl(Push|Pop)ClientAttrib|glClientActiveTexture"
    r"|glBindBuffer|glBindVertexArray|gl(Bind|Check)(Framebuffer|Renderbuffer)|glFramebuffer|glRenderbuffer"
    r"|glReadPixels|glFlush|glFinish|glRenderMode|gl(Feedback|Select)Buffer"
    r"|gl(Compile|Link|Attach|Detach|Shader|Validate)\w*|glTexImage\w*Multisample",
}
"""Role -> what names of commands that have it begin with, as a regular expression."""


def roles_of(name: str) -> Role:
    """The roles of the command of a name."""
    found = Role(0)
    for role, pattern in _PATTERNS.items():
        if re.match(pattern, name):
            found |= role
    return found
