in vec2 coords;
uniform sampler2D streaks;
uniform float time;
uniform vec4 tint;
out vec4 color;
float noise(vec2 p) { return fract(sin(dot(floor(p), vec2(12.9898, 78.233))) * 43758.5453); }
float smooth_noise(vec2 p) {
    vec2 f = fract(p);
    f = f * f * (3.0 - 2.0 * f);
    return mix(mix(noise(p), noise(p + vec2(1.0, 0.0)), f.x), mix(noise(p + vec2(0.0, 1.0)), noise(p + 1.0), f.x), f.y);
}
void main() {
    float cloud = 0.0;
    float size = 3.0;
    for (int i = 0; i < 2; i++) {
        cloud += smooth_noise(coords * size + vec2(time * 0.2, -time * 0.3) * float(i + 1)) / size;
        size *= 2.0;
    }
    float where = smoothstep(0.5, 0.1, coords.y) * smoothstep(0.22, 0.48, cloud);
    color = vec4(tint.rgb, tint.a * where);
}
