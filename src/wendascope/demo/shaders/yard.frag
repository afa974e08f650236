uniform sampler2D surface;
in vec3 lit;
in vec2 coords;
out vec4 colour;
void main() { colour = vec4(lit * texture(surface, coords).rgb, 1.0); }
