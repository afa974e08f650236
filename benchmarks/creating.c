/* Makes, fills and deletes 1,000 objects in every frame: what following them costs cannot hide. Prints CPU time a frame. */
#define GL_GLEXT_PROTOTYPES
#include <EGL/egl.h>
#include <GL/gl.h>
#include <GL/glext.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

static double now(void) {
  struct timespec t;
  clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &t);
  return t.tv_sec * 1e3 + t.tv_nsec / 1e6;
}

static int compare(const void *a, const void *b) { return *(const double *)a > *(const double *)b ? 1 : -1; }

int main(int argc, char **argv) {
  int frames = argc > 1 ? atoi(argv[1]) : 300;
  EGLDisplay d = eglGetDisplay(EGL_DEFAULT_DISPLAY);
  eglInitialize(d, 0, 0);
  eglBindAPI(EGL_OPENGL_API);
  EGLint wanted[] = {EGL_SURFACE_TYPE, EGL_PBUFFER_BIT, EGL_RENDERABLE_TYPE, EGL_OPENGL_BIT, EGL_NONE}, n;
  EGLint size[] = {EGL_WIDTH, 64, EGL_HEIGHT, 64, EGL_NONE};
  EGLConfig config;
  eglChooseConfig(d, wanted, &config, 1, &n);
  EGLSurface s = eglCreatePbufferSurface(d, config, size);
  EGLContext c = eglCreateContext(d, config, 0, 0);
  if (!eglMakeCurrent(d, s, s, c)) return 1;
  static char data[4096];
  GLuint buffers[700], textures[300];
  double *times = malloc(sizeof *times * (size_t)frames);
  for (int f = 0; f < frames; f++) {
    double begun = now();
    glGenBuffers(700, buffers);
    glGenTextures(300, textures);
    for (int i = 0; i < 700; i++) {
      glBindBuffer(GL_ARRAY_BUFFER, buffers[i]);
      glBufferData(GL_ARRAY_BUFFER, 256, data, GL_STATIC_DRAW);
    }
    for (int i = 0; i < 300; i++) {
      glBindTexture(GL_TEXTURE_2D, textures[i]);
      glTexImage2D(GL_TEXTURE_2D, 0, GL_RGBA8, 16, 16, 0, GL_RGBA, GL_UNSIGNED_BYTE, data);
    }
    glDeleteBuffers(700, buffers);
    glDeleteTextures(300, textures);
    glClear(GL_COLOR_BUFFER_BIT);
    eglSwapBuffers(d, s);
    times[f] = now() - begun;
  }
  qsort(times, (size_t)frames, sizeof *times, compare);
  printf("%.4f ms a frame\n", times[frames / 2]);
  return 0;
}
