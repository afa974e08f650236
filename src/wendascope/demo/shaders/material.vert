layout(location = 0) in vec3 position;
layout(location = 1) in vec3 normal;
layout(location = 2) in vec2 uv;
#ifdef INSTANCED
layout(location = 3) in mat4 instance_model;
layout(location = 7) in vec4 instance_tint;
out vec4 tint_in;
#define model instance_model
#else
uniform mat4 model;
#endif
out vec3 world;
out vec3 facing;
out vec2 coords;
#ifdef WASTEFUL
out vec4 unused_detail;
#endif
void main() {
    vec4 placed = model * vec4(position, 1.0);
    world = placed.xyz;
    facing = mat3(model) * normal;
    coords = uv;
#ifdef INSTANCED
    tint_in = instance_tint;
#endif
#ifdef WASTEFUL
    unused_detail = vec4(position * 3.0, length(normal));
#endif
    gl_ClipDistance[0] = dot(placed, clip_plane);
    gl_Position = view_projection * placed;
}
