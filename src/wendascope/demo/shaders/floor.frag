in vec3 world;
in vec3 facing;
in vec2 coords;
uniform vec4 tint;
uniform float time;
uniform sampler2D surface;
uniform sampler2D wetness_map;
uniform sampler2D mirror;
out vec4 color;
void main() {
    vec2 at = gl_FragCoord.xy / viewport.xy;
    float wet = texture(wetness_map, world.xz * 0.09).r;
    vec2 ripple = vec2(sin(world.x * 9.0 + time), cos(world.z * 11.0 - time)) * 0.0035;
    vec3 seen = texture(mirror, at + ripple * wet).rgb;
    vec3 stone = texture(surface, world.xz * 0.35).rgb * tint.rgb;
    vec3 light = vec3(0.02, 0.024, 0.035);
    for (int i = 0; i < 4; i++) {
        vec3 d = lamps[i].xyz - world;
        light += vec3(1.0, 0.72, 0.42) * lamps[i].w * max(d.y, 0.0) * pow(dot(d, d) + 0.1, -1.5);
    }
    float grazing = pow(1.0 - max(dot(normalize(eye.xyz - world), vec3(0.0, 1.0, 0.0)), 0.0), 3.0);
    color = vec4(stone * light + seen * (0.15 + 0.6 * grazing) * wet, 1.0);
}
