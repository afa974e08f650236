in vec3 world;
in vec3 facing;
in vec2 coords;
uniform vec4 tint;
uniform float glow;
uniform sampler2D surface;
uniform sampler2DShadow shadow;
#ifndef LAMPS
#define LAMPS 6
#endif
uniform vec4 platform_lamps[LAMPS];
uniform int lamp_count;
out vec4 color;

void main() {
    vec3 n = normalize(facing);
    vec4 base = texture(surface, coords) * tint;
    vec4 p = light_projection * vec4(world, 1.0);
    float moon = texture(shadow, vec3(p.xy / p.w * 0.5 + 0.5, p.z / p.w * 0.5 + 0.497));
    vec3 light = vec3(0.05, 0.06, 0.09) + vec3(0.16, 0.18, 0.26) * moon * max(dot(n, normalize(vec3(0.4, 1.0, 0.3))), 0.0);
    for (int i = 0; i < lamp_count; i++) {
        // each lamp reaches a few metres
        vec3 d = platform_lamps[i].xyz - world;
        float reach = platform_lamps[i].w;
        float near = max(1.0 - dot(d, d) / (reach * reach), 0.0);
        vec3 half_way = normalize(normalize(d) + normalize(eye.xyz - world));
        float shine = pow(max(dot(n, half_way), 0.0), 24.0);
        light += vec3(1.0, 0.78, 0.5) * near * near * (max(dot(n, normalize(d)), 0.0) + shine);
    }
    color = vec4(base.rgb * (light + glow), 1.0);
}
