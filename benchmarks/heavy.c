/* A target that does nothing but call: CALLS calls a frame, one in twenty of them a draw of one small triangle.
 *
 *     heavy CALLS FRAMES OBJECTS MEGABYTES
 *
 * Makes OBJECTS small buffers and textures, and textures of MEGABYTES in all, before it begins. With FRAMES it ends
 * after them and prints the median time of a frame; with 0 it goes on. */
#include <stdio.h>
#include <time.h>
#include "target.h"

static double now(void) {
  struct timespec t;
  clock_gettime(CLOCK_MONOTONIC, &t);
  return t.tv_sec * 1e3 + t.tv_nsec / 1e6;
}

static int by_value(const void *a, const void *b) {
  double x = *(const double *)a, y = *(const double *)b;
  return (x > y) - (x < y);
}

int main(int count, char **arguments) {
  int calls = count > 1 ? atoi(arguments[1]) : 20000, frames = count > 2 ? atoi(arguments[2]) : 0;
  int objects = count > 3 ? atoi(arguments[3]) : 0, megabytes = count > 4 ? atoi(arguments[4]) : 0;
  setenv("LP_NUM_THREADS", "0", 0); /* a software driver's own threads would be most of what is measured */
  if (!begin(64, 64, 0)) return 1;
  GLuint program = glCreateProgram();
  glAttachShader(program, shader(GL_VERTEX_SHADER, "#version 330\nuniform vec4 shift; void main() { gl_Position = vec4(vec2(gl_VertexID & 1, gl_VertexID >> 1) * 0.05, 0, 1) + shift; }"));
  glAttachShader(program, shader(GL_FRAGMENT_SHADER, "#version 330\nout vec4 c; void main() { c = vec4(1, 0.6, 0.2, 1); }"));
  glLinkProgram(program);
  glUseProgram(program);
  GLint shift = glGetUniformLocation(program, "shift");
  GLuint array;
  glGenVertexArrays(1, &array);
  glBindVertexArray(array);
  char bytes[4096] = {0};
  for (int i = 0; i < objects; i++) {
    GLuint name;
    bytes[0] = (char)i;
    if (i % 2) {
      glGenBuffers(1, &name);
      glBindBuffer(GL_ARRAY_BUFFER, name);
      glBufferData(GL_ARRAY_BUFFER, 1024, bytes, GL_STATIC_DRAW);
    } else {
      glGenTextures(1, &name);
      glBindTexture(GL_TEXTURE_2D, name);
      glTexImage2D(GL_TEXTURE_2D, 0, GL_RGBA8, 16, 16, 0, GL_RGBA, GL_UNSIGNED_BYTE, bytes);
    }
  }
  for (int i = 0; i < megabytes / 4; i++) {
    unsigned char *pixels = malloc(4 << 20);
    for (int k = 0; k < 4 << 20; k++) pixels[k] = (unsigned char)(k * 2654435761u >> 24 ^ i);
    GLuint name;
    glGenTextures(1, &name);
    glBindTexture(GL_TEXTURE_2D, name);
    glTexImage2D(GL_TEXTURE_2D, 0, GL_RGBA8, 1024, 1024, 0, GL_RGBA, GL_UNSIGNED_BYTE, pixels);
    free(pixels);
  }
  double *times = malloc(sizeof *times * (size_t)(frames + 1));
  for (int frame = 0; frames == 0 || frame < frames; frame++) {
    double begun = now();
    for (int i = 0; i < calls; i++) {
      if (i % 20 == 19) glDrawArrays(GL_TRIANGLES, 0, 3);
      else glUniform4f(shift, (float)(i % 97) / 50 - 1, (float)(frame + i) / 89 - (float)((frame + i) / 89), 0, 0);
    }
    eglSwapBuffers(display, surface);
    if (frames) times[frame] = now() - begun;
  }
  qsort(times, (size_t)frames, sizeof *times, by_value);
  printf("%.4f ms a frame\n", times[frames / 2]);
  return 0;
}
