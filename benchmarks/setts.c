/* A target that paves a yard: SIDE x SIDE setts, cubes of one mesh, each with a draw of its own, a matrix and a colour.
 *
 *     setts SIDE
 */
#include <math.h>
#include <string.h>
#include "target.h"

static const char *vertex =
    "#version 330 core\n"
    "layout(location = 0) in vec3 at; layout(location = 1) in vec3 facing;\n"
    "uniform mat4 model; uniform mat4 view; out vec3 normal;\n"
    "void main() { normal = mat3(model) * facing; gl_Position = view * model * vec4(at, 1.0); }\n";
static const char *fragment =
    "#version 330 core\n"
    "in vec3 normal; uniform vec3 colour; out vec4 result;\n"
    "void main() { result = vec4(colour * (0.4 + 0.6 * max(dot(normalize(normal), vec3(0.3, 0.5, 0.81)), 0.0)), 1.0); }\n";

/* Six faces of four corners, with their normals, and two triangles of each. */
static void cube(float *corners, unsigned short *indices) {
  for (int face = 0; face < 6; face++) {
    int axis = face / 2, first = face * 4;
    float sign = face % 2 ? 1.0f : -1.0f;
    for (int k = 0; k < 4; k++) {
      float *corner = corners + (first + k) * 6;
      memset(corner, 0, 24);
      corner[axis] = sign;
      corner[(axis + 1) % 3] = k == 1 || k == 2 ? 1.0f : -1.0f;
      corner[(axis + 2) % 3] = (k >= 2 ? 1.0f : -1.0f) * sign;
      corner[3 + axis] = sign;
    }
    static const int order[6] = {0, 1, 2, 0, 2, 3};
    for (int k = 0; k < 6; k++) indices[face * 6 + k] = (unsigned short)(first + order[k]);
  }
}

int main(int count, char **arguments) {
  int side = count > 1 ? atoi(arguments[1]) : 317;
  if (!begin(800, 600, 24)) return 1;
  GLuint program = glCreateProgram(), array, buffers[2];
  glAttachShader(program, shader(GL_VERTEX_SHADER, vertex));
  glAttachShader(program, shader(GL_FRAGMENT_SHADER, fragment));
  glLinkProgram(program);
  glUseProgram(program);
  float corners[24 * 6];
  unsigned short indices[36];
  cube(corners, indices);
  glGenVertexArrays(1, &array);
  glBindVertexArray(array);
  glGenBuffers(2, buffers);
  glBindBuffer(GL_ARRAY_BUFFER, buffers[0]);
  glBufferData(GL_ARRAY_BUFFER, sizeof corners, corners, GL_STATIC_DRAW);
  glBindBuffer(GL_ELEMENT_ARRAY_BUFFER, buffers[1]);
  glBufferData(GL_ELEMENT_ARRAY_BUFFER, sizeof indices, indices, GL_STATIC_DRAW);
  for (GLuint k = 0; k < 2; k++) {
    glEnableVertexAttribArray(k);
    glVertexAttribPointer(k, 3, GL_FLOAT, GL_FALSE, 24, (void *)(k * 12ul));
  }
  GLint model = glGetUniformLocation(program, "model"), view = glGetUniformLocation(program, "view");
  GLint colour = glGetUniformLocation(program, "colour");
  glEnable(GL_DEPTH_TEST);
  glClearColor(0.05f, 0.06f, 0.1f, 1.0f);
  const float flat[16] = {1, 0, 0, 0, 0, 1, 0, 0, 0, 0, -0.5f, 0, 0, 0, 0, 1};
  for (float turn = 0.0f;; turn += 0.01f) {
    glClear(GL_COLOR_BUFFER_BIT | GL_DEPTH_BUFFER_BIT);
    glUniformMatrix4fv(view, 1, GL_FALSE, flat);
    for (int i = 0; i < side; i++) {
      for (int j = 0; j < side; j++) {
        float half = 0.7f / (float)side, angle = turn + (float)i * 0.1f + (float)j * 0.07f;
        float c = cosf(angle) * half, s = sinf(angle) * half;
        float x = ((float)i + 0.5f) * 2 / (float)side - 1, y = ((float)j + 0.5f) * 2 / (float)side - 1;
        float placed[16] = {c, 0, -s, 0, 0, half, 0, 0, s, 0, c, 0, x, y, 0, 1};
        glUniformMatrix4fv(model, 1, GL_FALSE, placed);
        glUniform3f(colour, (float)i / (float)side, (float)j / (float)side, 0.5f + 0.5f * sinf((float)(3 * i + j)));
        glDrawElements(GL_TRIANGLES, 36, GL_UNSIGNED_SHORT, NULL);
      }
    }
    eglSwapBuffers(display, surface);
  }
}
