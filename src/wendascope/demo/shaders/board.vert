layout(location = 0) in vec2 corner;
layout(location = 1) in vec2 uv;
#ifdef INSTANCED
layout(location = 3) in vec4 instance_box;
layout(location = 4) in vec4 instance_glyph;
#define box instance_box
#define glyph instance_glyph
#else
uniform vec4 box;
uniform vec4 glyph;
#endif
out vec2 coords;
void main() {
    coords = glyph.xy + uv * glyph.zw;
    gl_Position = vec4(box.xy + corner * box.zw, 0.0, 1.0);
}
