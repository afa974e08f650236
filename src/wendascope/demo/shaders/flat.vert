layout(location = 0) in vec2 corner;
uniform vec4 box;
void main() { gl_Position = vec4(box.xy + corner * box.zw, 0.0, 1.0); }
