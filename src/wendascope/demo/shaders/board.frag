in vec2 coords;
uniform sampler2D letters;
uniform vec4 tint;
out vec4 color;
void main() {
    float ink = texture(letters, coords).r;
    color = vec4(tint.rgb, ink * tint.a);
}
