/* What targets of benchmarks begin with: a context without a display, and shaders. */
#define GL_GLEXT_PROTOTYPES
#include <EGL/egl.h>
#include <GL/gl.h>
#include <GL/glext.h>
#include <stdlib.h>

static EGLDisplay display;
static EGLSurface surface;

/* A current context of OpenGL 3.3 with a window of that size; whether there is one. */
static int begin(EGLint width, EGLint height, EGLint depth) {
  setenv("EGL_PLATFORM", "surfaceless", 0); /* no display is needed, and none disturbs the figures */
  display = eglGetDisplay(EGL_DEFAULT_DISPLAY);
  eglInitialize(display, NULL, NULL);
  eglBindAPI(EGL_OPENGL_API);
  EGLint wanted[] = {EGL_SURFACE_TYPE, EGL_PBUFFER_BIT, EGL_RENDERABLE_TYPE, EGL_OPENGL_BIT, EGL_RED_SIZE, 8,
                     EGL_DEPTH_SIZE,   depth,           EGL_NONE};
  EGLConfig config;
  EGLint found;
  if (!eglChooseConfig(display, wanted, &config, 1, &found) || !found) return 0;
  EGLint size[] = {EGL_WIDTH, width, EGL_HEIGHT, height, EGL_NONE};
  surface = eglCreatePbufferSurface(display, config, size);
  EGLint version[] = {EGL_CONTEXT_MAJOR_VERSION, 3, EGL_CONTEXT_MINOR_VERSION, 3, EGL_NONE};
  return eglMakeCurrent(display, surface, surface, eglCreateContext(display, config, EGL_NO_CONTEXT, version));
}

static GLuint shader(GLenum kind, const char *text) {
  GLuint made = glCreateShader(kind);
  glShaderSource(made, 1, &text, NULL);
  glCompileShader(made);
  return made;
}
