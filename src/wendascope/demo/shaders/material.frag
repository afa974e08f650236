in vec3 world;
in vec3 facing;
in vec2 coords;
#ifdef INSTANCED
in vec4 tint_in;
#define tint tint_in
#else
uniform vec4 tint;
#endif
uniform float glow;
uniform float hour;
uniform float snow;
uniform sampler2D surface;
uniform sampler2D roughness_map;
uniform sampler2D wetness_map;
uniform sampler2DShadow shadow;
out vec4 color;

vec3 night_sky() {
#ifdef WASTEFUL
    // the same for every fragment of the frame
    float turn = hour * 0.2617993878;
    vec3 tilt = vec3(sin(turn), cos(turn), sin(turn * 0.5));
    return normalize(tilt + vec3(0.0, 2.0, 0.0)).yyz * pow(0.5, 4.0) * vec3(0.5, 0.6, 1.0);
#else
    return vec3(0.028, 0.034, 0.05);
#endif
}

float in_light() {
    vec4 p = light_projection * vec4(world, 1.0);
    vec3 q = p.xyz / p.w * 0.5 + 0.5;
    return texture(shadow, vec3(q.xy, q.z - 0.003));
}

void main() {
    vec3 n = normalize(facing);
    vec3 to_eye = normalize(eye.xyz - world);
    vec4 base = texture(surface, coords) * tint;
    float rough = texture(roughness_map, coords * 2.0).r;
    float wet = texture(wetness_map, coords).r;
    vec3 light = night_sky() * (0.6 + 0.4 * n.y);
    float moon = in_light();
    light += vec3(0.10, 0.12, 0.18) * moon * max(dot(n, normalize(vec3(0.4, 1.0, 0.3))), 0.0);
    for (int i = 0; i < 4; i++) {
        vec3 d = lamps[i].xyz - world;
        float distance2 = dot(d, d) + 0.1;
        vec3 l = d * inversesqrt(distance2);
        float shine = max(dot(reflect(-l, n), to_eye), 0.0);
        shine *= shine;
        shine *= shine;
        shine *= shine * mix(shine, 1.0, rough) * wet;
        light += vec3(1.0, 0.72, 0.42) * lamps[i].w * (max(dot(n, l), 0.0) + shine) / distance2;
    }
    vec3 result = base.rgb * light + base.rgb * glow;
#ifdef WASTEFUL
    if (snow > 0.0) {
        float flakes = 0.0;
        for (int k = 0; k < 8; k++)
            flakes += smoothstep(0.6, 1.0, sin(world.x * float(k + 3)) * cos(world.z * float(k + 5)) * n.y);
        result = mix(result, vec3(0.8, 0.85, 0.9), clamp(flakes * snow, 0.0, 1.0));
    }
#endif
    color = vec4(result, base.a);
}
