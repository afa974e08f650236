in vec2 coords;
uniform sampler2D picture;
out vec4 color;
void main() {
    vec2 away = coords - 0.5;
    color = vec4(texture(picture, coords).rgb * (1.0 - 0.5 * dot(away, away)), 1.0);
}
