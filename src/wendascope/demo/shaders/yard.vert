layout(location = 0) in vec3 position;
layout(location = 1) in vec3 normal;
layout(location = 2) in vec2 uv;
#ifdef INSTANCED
layout(location = 3) in mat4 instance_model;
layout(location = 7) in vec4 instance_tint;
#define model instance_model
#define tint instance_tint
#else
uniform mat4 model;
uniform vec4 tint;
#endif
out vec3 lit;
out vec2 coords;
void main() {
    vec4 placed = model * vec4(position, 1.0);
    float moon = 0.25 + 0.75 * max(dot(normalize(mat3(model) * normal), vec3(0.3, 0.9, 0.3)), 0.0);
    float fog = exp(-0.012 * distance(placed.xyz, eye.xyz));
    lit = mix(vec3(0.05, 0.06, 0.09), tint.rgb * (moon + tint.a), fog);
    coords = uv;
    gl_Position = view_projection * placed;
}
