/* A small multi-threaded OpenGL ES program for tests of the tap: every thread draws in a context of its own, which all share objects.
 *
 *     threads THREADS FRAMES OUT
 *
 * Each thread clears, uploads, makes and deletes textures and buffers, compiles a shader now and then, and swaps its pbuffer. When
 * all are done, OUT holds a number for what each of them last saw, or the file is not there. Exits 3 on any GL error. */
#include <dlfcn.h>
#include <pthread.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

typedef void *(*Get)(const char *);
static Get get_address;
static void *egl;
static int frames;

#define EGL(type, name, ...) ((type(*)(__VA_ARGS__))dlsym(egl, #name))
#define GL(type, name, ...) ((type(*)(__VA_ARGS__))get_address(#name))

enum { RGBA8_BIT = 0x3021, PBUFFER = 0x0001, ES3_BIT = 0x0040, NONE = 0x3038 };
typedef struct {
  void *display, *config, *context, *surface;
  pthread_t thread;
  int number;
  unsigned seen;
} Drawer;

static void compile(int number, int frame) {
  unsigned (*make)(unsigned) = GL(unsigned, glCreateShader, unsigned);
  unsigned shader = make(0x8B30);
  char text[200];
  snprintf(text, sizeof text, "#version 300 es\nprecision mediump float; out vec4 c; void main() { c = vec4(%d.0, %d.0, 0.0, 1.0); }", number, frame);
  const char *source = text;
  GL(void, glShaderSource, unsigned, int, const char *const *, const int *)(shader, 1, &source, NULL);
  GL(void, glCompileShader, unsigned)(shader);
  GL(void, glDeleteShader, unsigned)(shader);
}

static void *draw(void *data) {
  Drawer *d = data;
  EGL(unsigned, eglBindAPI, unsigned)(0x30A0);
  if (!EGL(unsigned, eglMakeCurrent, void *, void *, void *, void *)(d->display, d->surface, d->surface, d->context)) exit(4);
  unsigned bytes[64 * 64];
  for (int frame = 0; frame < frames; frame++) {
    unsigned texture = 0, buffer = 0;
    GL(void, glClearColor, float, float, float, float)((float)(frame % 16) / 15.0f, (float)d->number / 8.0f, 0.5f, 1.0f);
    GL(void, glClear, unsigned)(0x4000);
    GL(void, glGenTextures, int, unsigned *)(1, &texture);
    GL(void, glBindTexture, unsigned, unsigned)(0x0DE1, texture);
    memset(bytes, frame, sizeof bytes);
    GL(void, glTexImage2D, unsigned, int, int, int, int, int, unsigned, unsigned, const void *)(0x0DE1, 0, 0x1908, 64, 64, 0, 0x1908, 0x1401, bytes);
    GL(void, glTexSubImage2D, unsigned, int, int, int, int, int, unsigned, unsigned, const void *)(0x0DE1, 0, 0, 0, 8, 8, 0x1908, 0x1401, bytes);
    GL(void, glGenBuffers, int, unsigned *)(1, &buffer);
    GL(void, glBindBuffer, unsigned, unsigned)(0x8892, buffer);
    GL(void, glBufferData, unsigned, intptr_t, const void *, unsigned)(0x8892, 4096, bytes, 0x88E4);
    if (frame % 16 == d->number % 16) compile(d->number, frame);
    GL(void, glReadPixels, int, int, int, int, unsigned, unsigned, void *)(3, 3, 1, 1, 0x1908, 0x1401, &d->seen);
    GL(void, glDeleteTextures, int, const unsigned *)(1, &texture);
    GL(void, glDeleteBuffers, int, const unsigned *)(1, &buffer);
    if (GL(unsigned, glGetError, void)()) exit(3);
    EGL(unsigned, eglSwapBuffers, void *, void *)(d->display, d->surface);
    struct timespec pause = {0, 2000000};
    nanosleep(&pause, NULL);
  }
  EGL(unsigned, eglMakeCurrent, void *, void *, void *, void *)(d->display, NULL, NULL, NULL);
  return NULL;
}

int main(int count, char **arguments) {
  if (count < 4) return 2;
  int threads = atoi(arguments[1]);
  frames = atoi(arguments[2]);
  if (threads < 1 || threads > 16 || !(egl = dlopen("libEGL.so.1", RTLD_NOW))) return 2;
  get_address = (Get)dlsym(egl, "eglGetProcAddress");
  void *display = GL(void *, eglGetPlatformDisplayEXT, unsigned, void *, const int *)(0x31DD, NULL, NULL);
  if (!EGL(unsigned, eglInitialize, void *, int *, int *)(display, NULL, NULL)) return 5;
  EGL(unsigned, eglBindAPI, unsigned)(0x30A0);
  int wanted[] = {0x3033, PBUFFER, 0x3040, ES3_BIT, RGBA8_BIT, 8, NONE}, found = 0;
  int version[] = {0x3098, 3, 0x30FB, 0, NONE}, size[] = {0x3057, 64, 0x3056, 64, NONE};
  void *config = NULL, *first = NULL;
  if (!EGL(unsigned, eglChooseConfig, void *, const int *, void **, int, int *)(display, wanted, &config, 1, &found) || !found) return 5;
  static Drawer drawers[16];
  for (int i = 0; i < threads; i++) {
    Drawer *d = &drawers[i];
    *d = (Drawer){.display = display, .config = config, .number = i};
    d->context = EGL(void *, eglCreateContext, void *, void *, void *, const int *)(display, config, first, version);
    d->surface = EGL(void *, eglCreatePbufferSurface, void *, void *, const int *)(display, config, size);
    if (!d->context || !d->surface) return 5;
    if (!first) first = d->context;
  }
  for (int i = 0; i < threads; i++) pthread_create(&drawers[i].thread, NULL, draw, &drawers[i]);
  for (int i = 0; i < threads; i++) pthread_join(drawers[i].thread, NULL);
  FILE *out = fopen(arguments[3], "w");
  for (int i = 0; out && i < threads; i++) fprintf(out, "%08x\n", drawers[i].seen);
  return out && fclose(out) == 0 ? 0 : 6;
}
