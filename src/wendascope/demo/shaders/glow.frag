in vec2 coords;
uniform sampler2D picture;
out vec4 color;
void main() {
    vec3 c = texture(picture, coords).rgb;
    color = vec4(max(c - 0.55, 0.0), 1.0);
}
