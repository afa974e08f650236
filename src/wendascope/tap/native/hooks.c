/* How the tap gets between a program and GL: the loaders, contexts and buffer swaps of GLX and EGL. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <stdlib.h>
#include <string.h>
#include "tap.h"

typedef void *(*Dlsym)(void *, const char *);
typedef void (*Procedure)(void);
typedef Procedure (*GetProcAddress)(const char *);

void *tap_reals[TAP_FUNCTIONS];

/* ---- the real dlsym, and ours ----------------------------------------------------------------- */

TAP_EXPORT void *dlsym(void *handle, const char *name);
Dlsym tap_real_dlsym __attribute__((visibility("hidden")));

EARLY static Dlsym real_dlsym(void) {
  static const char *const versions[] = {"GLIBC_2.34", "GLIBC_2.2.5", "GLIBC_2.17", "GLIBC_2.0"};
  Dlsym real = __atomic_load_n(&tap_real_dlsym, __ATOMIC_RELAXED);
  for (size_t i = 0; !real && i < sizeof versions / sizeof *versions; i++) {
    real = (Dlsym)dlvsym(RTLD_NEXT, "dlsym", versions[i]);
    __atomic_store_n(&tap_real_dlsym, real, __ATOMIC_RELAXED);
  }
  return real;
}

EARLY void *tap_next(const char *name) {
  Dlsym real = real_dlsym();
  return real ? real(RTLD_NEXT, name) : NULL;
}

static int find_command(const char *name) {
  int low = 0, high = TAP_FUNCTIONS - 1;
  while (low <= high) {
    int middle = (low + high) / 2, order = strcmp(name, tap_names[middle]);
    if (order == 0) return middle;
    if (order < 0) high = middle - 1;
    else low = middle + 1;
  }
  return -1;
}

static void *window_system_wrapper(const char *name);

/* The library of an address that the tap will call stays, whoever unloads it: the program may load it again, and call the
 * wrappers, which know that address. */
static void keep_loaded(void *address) {
  Dl_info found;
  if (!dladdr(address, &found) || !found.dli_fname) return;
  void *handle = dlopen(found.dli_fname, RTLD_LAZY | RTLD_NOLOAD | RTLD_NODELETE);
  if (handle) dlclose(handle);
}

/* Whether a library lies in a namespace of its own, where no other one calls it: its functions are another driver's. */
static int set_apart(void *handle) {
  Lmid_t space = LM_ID_BASE;
  return dlinfo(handle, RTLD_DI_LMID, &space) == 0 && space != LM_ID_BASE;
}

/* The wrapper to hand out for a name that a loader found at `real`, or NULL for none. */
static void *wrapper_for(const char *name, void *real) {
  if (strncmp(name, "gl", 2) == 0 && name[2] != 'X') {
    int id = find_command(name);
    if (id < 0) return NULL;
    if (!__atomic_load_n(&tap_reals[id], __ATOMIC_RELAXED) && real != tap_wrappers[id]) {
      keep_loaded(real);
      __atomic_store_n(&tap_reals[id], real, __ATOMIC_RELAXED);
    }
    return tap_wrappers[id];
  }
  if (strncmp(name, "glX", 3) == 0 || strncmp(name, "egl", 3) == 0) return window_system_wrapper(name);
  return NULL;
}

/* Called by the assembly below. Look-ups relative to the caller (RTLD_NEXT) and in the global scope
 * (RTLD_DEFAULT) are left to the real function, reached by a jump so that it still sees the caller. */
EARLY __attribute__((used, visibility("hidden"))) void *tap_dlsym_filter(void *handle, const char *name) {
  Dlsym find = real_dlsym();
  if (!find || !name || handle == RTLD_NEXT || handle == RTLD_DEFAULT) return NULL;
  if (strncmp(name, "gl", 2) != 0 && strncmp(name, "egl", 3) != 0) return NULL;
  void *real = find(handle, name);
  return real && !set_apart(handle) ? wrapper_for(name, real) : NULL;
}

#if defined(__x86_64__)
__asm__(
    ".text\n.globl dlsym\n.type dlsym,@function\ndlsym:\n"
    "  endbr64\n  push %rdi\n  push %rsi\n  sub $8,%rsp\n"
    "  call tap_dlsym_filter\n"
    "  add $8,%rsp\n  pop %rsi\n  pop %rdi\n"
    "  test %rax,%rax\n  jne 1f\n"
    "  jmp *tap_real_dlsym(%rip)\n"
    "1: ret\n.size dlsym,.-dlsym\n");
#elif defined(__aarch64__)
__asm__(
    ".text\n.globl dlsym\n.type dlsym,%function\ndlsym:\n"
    "  stp x29,x30,[sp,#-32]!\n  stp x0,x1,[sp,#16]\n"
    "  bl tap_dlsym_filter\n"
    "  mov x9,x0\n  ldp x0,x1,[sp,#16]\n  ldp x29,x30,[sp],#32\n"
    "  cbnz x9,1f\n"
    "  adrp x10,tap_real_dlsym\n  ldr x10,[x10,:lo12:tap_real_dlsym]\n  br x10\n"
    "1: mov x0,x9\n  ret\n.size dlsym,.-dlsym\n");
#else
#error "dlsym must be entered without losing its caller: write the jump for this processor"
#endif

/* ---- finding the real functions ------------------------------------------------------------------ */

static void *loaded_symbol(const char *library, const char *symbol) {
  void *handle = dlopen(library, RTLD_LAZY | RTLD_NOLOAD);
  if (!handle) return NULL;
  void *found = real_dlsym()(handle, symbol);
  if (found) keep_loaded(found);
  dlclose(handle);
  return found;
}

/* Of each thread, as are those of the window system below: none has to be asked for twice, and no two threads write the same. */
static __thread GetProcAddress real_glx_get, real_egl_get;

void *tap_resolve(int id) {
  const char *name = tap_names[id];
  static const char *const libraries[] = {"libGL.so.1", "libOpenGL.so.0", "libGLESv2.so.2", "libGLESv1_CM.so.1"};
  void *real = tap_next(name);
  for (size_t i = 0; !real && i < sizeof libraries / sizeof *libraries; i++) real = loaded_symbol(libraries[i], name);
  if (!real) {
    GetProcAddress get = real_egl_get ? real_egl_get : (GetProcAddress)loaded_symbol("libEGL.so.1", "eglGetProcAddress");
    if (!get) get = real_glx_get ? real_glx_get : (GetProcAddress)loaded_symbol("libGL.so.1", "glXGetProcAddressARB");
    if (!get) get = (GetProcAddress)loaded_symbol("libGLX.so.0", "glXGetProcAddressARB");
    if (get) real = (void *)get(name);
  }
  if (real == tap_wrappers[id]) real = NULL;
  if (real) keep_loaded(real);
  __atomic_store_n(&tap_reals[id], real, __ATOMIC_RELAXED);
  return real;
}

/* A function of the window system, from wherever the program got it. */
void *tap_system_function(const char *name) {
  void *real = tap_next(name);
  if (!real) real = loaded_symbol(name[0] == 'e' ? "libEGL.so.1" : "libGL.so.1", name);
  if (!real && name[0] == 'g') real = loaded_symbol("libGLX.so.0", name);
  if (!real && name[0] == 'e' && real_egl_get) real = (void *)real_egl_get(name);
  if (!real && name[0] == 'g' && real_glx_get) real = (void *)real_glx_get(name);
  if (real) keep_loaded(real);
  return real;
}

#define SYSTEM(variable, name) \
  if (!variable) variable = (__typeof__(variable))tap_system_function(name)

/* ---- contexts -------------------------------------------------------------------------------------- */

static TapContext *contexts;
static __thread TapContext unknown_context; /* for calls made before any context is current, and where nobody wraps them */
static __thread int running;
static __thread TapContext *current;
static __thread TapDrawable current_drawable;

static TapContext *context_of(void *handle) {
  for (TapContext *c = contexts; c; c = c->next)
    if (c->handle == handle) return c;
  return NULL;
}

int tap_alone(void) {
  TapContext *here = tap_context();
  return !here->sharing || __atomic_load_n(here->sharing, __ATOMIC_RELAXED) < 2;
}

static TapContext *add_context(void *handle, void *share) {
  static uint32_t ids;
  if (!handle) return NULL;
  tap_lock(TAP_LOCK_CONTEXTS);
  TapContext *shared = share ? context_of(share) : NULL;
  TapContext *c = calloc(1, sizeof *c);
  if (c) {
    c->handle = handle;
    c->id = ++ids;
    c->group = shared ? shared->group : c->id;
    c->sharing = shared ? shared->sharing : calloc(1, sizeof *c->sharing);
    if (c->sharing) __atomic_add_fetch(c->sharing, 1, __ATOMIC_RELAXED);
    c->next = contexts;
    contexts = c;
  }
  tap_unlock(TAP_LOCK_CONTEXTS);
  return c;
}

/* The record stays (its id may be in the journal); only its handle may be given out again. */
static void forget_context(void *handle) {
  tap_lock(TAP_LOCK_CONTEXTS);
  TapContext *c = context_of(handle);
  if (c) {
    c->handle = NULL;
    if (c->sharing) __atomic_sub_fetch(c->sharing, 1, __ATOMIC_RELAXED);
  }
  tap_unlock(TAP_LOCK_CONTEXTS);
  if (c && c != current) tap_context_ends(c);
}

static void made_current(void *handle, TapDrawable drawable) {
  tap_lock(TAP_LOCK_CONTEXTS);
  TapContext *c = handle ? context_of(handle) : NULL;
  tap_unlock(TAP_LOCK_CONTEXTS);
  if (handle && !c) c = add_context(handle, NULL);
  current = c;
  if (c && drawable.drawable) c->drawable = drawable.drawable;
  current_drawable = drawable;
  if (c) tap_connect();
}

TapDrawable tap_current_drawable(void) { return current_drawable; }

GLint tap_get(GLenum pname) {
  GLint value = 0;
  void (*get)(GLenum, GLint *) = TAP_REAL(glGetIntegerv, void (*)(GLenum, GLint *));
  if (get) get(pname, &value);
  return value;
}

TapContext *tap_context(void) {
  TapContext *c = current ? current : &unknown_context;
  if (!c->known) {
    const char *(*get)(GLenum) = TAP_REAL(glGetString, const char *(*)(GLenum));
    const char *version = get ? get(GL_VERSION) : NULL;
    if (version) {
      c->es = strncmp(version, "OpenGL ES", 9) == 0;
      while (*version && (*version < '0' || *version > '9')) version++;
      c->major = atoi(version);
      const char *dot = strchr(version, '.');
      c->minor = dot ? atoi(dot + 1) : 0;
      if (!c->es && c->major * 10 + c->minor >= 32) c->core = (tap_get(GL_CONTEXT_PROFILE_MASK) & 1) != 0;
      c->known = c != &unknown_context || running;
    }
  }
  return c;
}

/* While calls are run, the context does not change. */
void tap_run_begins(void) {
  running = 1;
  unknown_context.known = 0;
}

void tap_run_ends(void) {
  running = 0;
  unknown_context.known = 0;
}

void tap_contexts_write(TapSink *sink) {
  tap_lock(TAP_LOCK_CONTEXTS);
  for (TapContext *c = contexts; c; c = c->next) {
    uint32_t *row = (uint32_t *)tap_sink_take(sink, 12);
    if (!row) break;
    row[0] = TAP_CLASSES; /* one past the object classes: a context and its share group */
    row[1] = c->id;
    row[2] = c->group;
  }
  tap_unlock(TAP_LOCK_CONTEXTS);
}

/* ---- GLX ---------------------------------------------------------------------------------------------- */

typedef void Display;
typedef uintptr_t XID;

static void glx_current(Display *display, XID drawable, void *context) {
  made_current(context, (TapDrawable){TAP_PLATFORM_GLX, display, drawable});
}

TAP_EXPORT void *glXCreateContext(Display *d, void *visual, void *share, int direct) {
  static __thread void *(*real)(Display *, void *, void *, int);
  SYSTEM(real, "glXCreateContext");
  void *made = real(d, visual, share, direct);
  add_context(made, share);
  return made;
}

TAP_EXPORT void *glXCreateNewContext(Display *d, void *config, int type, void *share, int direct) {
  static __thread void *(*real)(Display *, void *, int, void *, int);
  SYSTEM(real, "glXCreateNewContext");
  void *made = real(d, config, type, share, direct);
  add_context(made, share);
  return made;
}

TAP_EXPORT void *glXCreateContextAttribsARB(Display *d, void *config, void *share, int direct, const int *attributes) {
  static __thread void *(*real)(Display *, void *, void *, int, const int *);
  SYSTEM(real, "glXCreateContextAttribsARB");
  if (!real) return NULL;
  void *made = real(d, config, share, direct, attributes);
  add_context(made, share);
  return made;
}

TAP_EXPORT void glXDestroyContext(Display *d, void *context) {
  static __thread void (*real)(Display *, void *);
  SYSTEM(real, "glXDestroyContext");
  forget_context(context);
  real(d, context);
}

TAP_EXPORT int glXMakeCurrent(Display *d, XID drawable, void *context) {
  static __thread int (*real)(Display *, XID, void *);
  SYSTEM(real, "glXMakeCurrent");
  int done = real(d, drawable, context);
  if (done) glx_current(d, drawable, context);
  return done;
}

TAP_EXPORT int glXMakeContextCurrent(Display *d, XID draw, XID read, void *context) {
  static __thread int (*real)(Display *, XID, XID, void *);
  SYSTEM(real, "glXMakeContextCurrent");
  int done = real(d, draw, read, context);
  if (done) glx_current(d, draw, context);
  return done;
}

TAP_EXPORT void glXSwapBuffers(Display *d, XID drawable) {
  static __thread void (*real)(Display *, XID);
  SYSTEM(real, "glXSwapBuffers");
  TapDrawable target = {TAP_PLATFORM_GLX, d, drawable};
  tap_frame_ends(TAP_FRAME_END_SWAP, &target);
  uint64_t begin = tap_now();
  real(d, drawable);
  tap_frame_ended(TAP_FRAME_END_SWAP, &target, begin, tap_now());
}

TAP_EXPORT int64_t glXSwapBuffersMscOML(Display *d, XID drawable, int64_t msc, int64_t divisor, int64_t remainder) {
  static __thread int64_t (*real)(Display *, XID, int64_t, int64_t, int64_t);
  SYSTEM(real, "glXSwapBuffersMscOML");
  if (!real) return -1;
  TapDrawable target = {TAP_PLATFORM_GLX, d, drawable};
  tap_frame_ends(TAP_FRAME_END_SWAP, &target);
  uint64_t begin = tap_now();
  int64_t done = real(d, drawable, msc, divisor, remainder);
  tap_frame_ended(TAP_FRAME_END_SWAP, &target, begin, tap_now());
  return done;
}

static Procedure found(const char *name, Procedure real) {
  void *wrapper = real && name ? wrapper_for(name, (void *)real) : NULL;
  return wrapper ? (Procedure)wrapper : real;
}

TAP_EXPORT Procedure glXGetProcAddress(const char *name) {
  SYSTEM(real_glx_get, "glXGetProcAddress");
  return real_glx_get ? found(name, real_glx_get(name)) : NULL;
}

TAP_EXPORT Procedure glXGetProcAddressARB(const char *name) {
  SYSTEM(real_glx_get, "glXGetProcAddressARB");
  return real_glx_get ? found(name, real_glx_get(name)) : NULL;
}

/* ---- EGL ---------------------------------------------------------------------------------------------- */

TAP_EXPORT void *eglCreateContext(void *d, void *config, void *share, const int32_t *attributes) {
  static __thread void *(*real)(void *, void *, void *, const int32_t *);
  SYSTEM(real, "eglCreateContext");
  void *made = real(d, config, share, attributes);
  add_context(made, share);
  return made;
}

TAP_EXPORT unsigned eglDestroyContext(void *d, void *context) {
  static __thread unsigned (*real)(void *, void *);
  SYSTEM(real, "eglDestroyContext");
  forget_context(context);
  return real(d, context);
}

TAP_EXPORT unsigned eglMakeCurrent(void *d, void *draw, void *read, void *context) {
  static __thread unsigned (*real)(void *, void *, void *, void *);
  SYSTEM(real, "eglMakeCurrent");
  unsigned done = real(d, draw, read, context);
  if (done) made_current(context, (TapDrawable){TAP_PLATFORM_EGL, d, (uintptr_t)draw});
  return done;
}

#define EGL_SWAP(name, parameters, ...)                                     \
  TAP_EXPORT unsigned name parameters {                                     \
    static __thread unsigned(*real) parameters;                                      \
    SYSTEM(real, #name);                                                    \
    if (!real) return 0;                                                    \
    TapDrawable target = {TAP_PLATFORM_EGL, d, (uintptr_t)surface};         \
    tap_frame_ends(TAP_FRAME_END_SWAP, &target);                        \
    uint64_t begin = tap_now();                                             \
    unsigned done = real(__VA_ARGS__);                                      \
    tap_frame_ended(TAP_FRAME_END_SWAP, &target, begin, tap_now());       \
    return done;                                                            \
  }

EGL_SWAP(eglSwapBuffers, (void *d, void *surface), d, surface)
EGL_SWAP(eglSwapBuffersWithDamageKHR, (void *d, void *surface, int32_t *rects, int32_t n), d, surface, rects, n)
EGL_SWAP(eglSwapBuffersWithDamageEXT, (void *d, void *surface, int32_t *rects, int32_t n), d, surface, rects, n)

TAP_EXPORT Procedure eglGetProcAddress(const char *name) {
  SYSTEM(real_egl_get, "eglGetProcAddress");
  return real_egl_get ? found(name, real_egl_get(name)) : NULL;
}

static void *window_system_wrapper(const char *name) {
  static const struct {
    const char *name;
    void *wrapper;
  } wrappers[] = {
#define W(name) {#name, (void *)name}
      W(glXCreateContext), W(glXCreateNewContext), W(glXCreateContextAttribsARB), W(glXDestroyContext),
      W(glXMakeCurrent), W(glXMakeContextCurrent), W(glXSwapBuffers), W(glXSwapBuffersMscOML),
      W(glXGetProcAddress), W(glXGetProcAddressARB), W(eglCreateContext), W(eglDestroyContext),
      W(eglMakeCurrent), W(eglSwapBuffers), W(eglSwapBuffersWithDamageKHR), W(eglSwapBuffersWithDamageEXT),
      W(eglGetProcAddress),
#undef W
  };
  for (size_t i = 0; i < sizeof wrappers / sizeof *wrappers; i++)
    if (strcmp(wrappers[i].name, name) == 0) return wrappers[i].wrapper;
  return NULL;
}

/* ---- drawable sizes -------------------------------------------------------------------------------------- */

static int ignore_x_error(Display *d, void *event) { return 0; }

static void glx_size(const TapDrawable *drawable, uint64_t *width, uint64_t *height) {
  typedef int (*Handler)(Display *, void *);
  Handler (*set_handler)(Handler) = loaded_symbol("libX11.so.6", "XSetErrorHandler");
  int (*sync)(Display *, int) = loaded_symbol("libX11.so.6", "XSync");
  int (*geometry)(Display *, XID, XID *, int *, int *, unsigned *, unsigned *, unsigned *, unsigned *) =
      loaded_symbol("libX11.so.6", "XGetGeometry");
  static __thread void (*query)(Display *, XID, int, unsigned *);
  SYSTEM(query, "glXQueryDrawable");
  if (!set_handler || !sync) return;
  unsigned w = 0, h = 0, border, bits;
  Handler before = set_handler(ignore_x_error);
  if (query) {
    query(drawable->display, drawable->drawable, 0x801D, &w); /* GLX_WIDTH */
    query(drawable->display, drawable->drawable, 0x801E, &h); /* GLX_HEIGHT */
  }
  if ((!w || !h) && geometry) {
    XID root;
    int x, y;
    if (!geometry(drawable->display, drawable->drawable, &root, &x, &y, &w, &h, &border, &bits)) w = h = 0;
  }
  sync(drawable->display, 0);
  set_handler(before);
  *width = w;
  *height = h;
}

void tap_drawable_size(const TapDrawable *drawable, uint64_t *width, uint64_t *height) {
  *width = *height = 0;
  if (drawable->platform == TAP_PLATFORM_GLX && drawable->drawable) glx_size(drawable, width, height);
  if (drawable->platform == TAP_PLATFORM_EGL && drawable->drawable) {
    static __thread unsigned (*query)(void *, void *, int32_t, int32_t *);
    SYSTEM(query, "eglQuerySurface");
    int32_t w = 0, h = 0;
    if (query && query(drawable->display, (void *)drawable->drawable, 0x3057, &w) &&
        query(drawable->display, (void *)drawable->drawable, 0x3056, &h)) {
      *width = (uint64_t)w;
      *height = (uint64_t)h;
    }
  }
}
