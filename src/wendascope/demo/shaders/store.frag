in vec3 world;
in vec3 facing;
in vec2 coords;
uniform vec4 tint;
uniform sampler2D surface;
out vec4 color;
void main() {
    vec3 n = normalize(facing), to_lamp = vec3(0.0, 2.6, -1.0) - world;
    float near = 2.6 / (1.0 + 0.05 * dot(to_lamp, to_lamp));
    vec3 light = vec3(0.16, 0.17, 0.2) + vec3(1.0, 0.82, 0.58) * near * max(dot(n, normalize(to_lamp)), 0.0);
    color = vec4(clamp(texture(surface, coords).rgb * tint.rgb * light, 0.0, 1.0), 1.0);
}
