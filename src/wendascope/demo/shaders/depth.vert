layout(location = 0) in vec3 position;
#ifdef INSTANCED
layout(location = 3) in mat4 instance_model;
#define model instance_model
#else
uniform mat4 model;
#endif
void main() { gl_Position = light_projection * (model * vec4(position, 1.0)); }
