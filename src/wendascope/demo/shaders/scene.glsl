layout(std140) uniform Scene {
    mat4 view_projection;
    mat4 light_projection;
    vec4 eye;
    vec4 lamps[4];
    vec4 clip_plane;
    vec4 viewport;
};
