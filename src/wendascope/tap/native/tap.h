/* The tap: recorder, executor and journal of OpenGL calls.
 *
 * One library, three uses. Preloaded into a target it records; in the target and in the replay
 * process it runs packed calls. docs/tap-protocol.md describes the packed call and the messages. */
#pragma once
#include <stddef.h>
#include <stdint.h>

typedef unsigned int GLenum, GLbitfield, GLuint, GLhandleARB;
typedef unsigned char GLboolean, GLubyte;
typedef signed char GLbyte;
typedef short GLshort;
typedef unsigned short GLushort, GLhalf, GLhalfNV, GLhalfARB;
typedef int GLint, GLsizei, GLfixed, GLclampx;
typedef float GLfloat, GLclampf;
typedef double GLdouble, GLclampd;
typedef char GLchar, GLcharARB;
typedef void GLvoid;
typedef intptr_t GLintptr, GLsizeiptr, GLintptrARB, GLsizeiptrARB, GLvdpauSurfaceNV;
typedef int64_t GLint64, GLint64EXT;
typedef uint64_t GLuint64, GLuint64EXT;
typedef struct __GLsync *GLsync;
typedef void *GLeglImageOES, *GLeglClientBufferEXT;
typedef void (*GLDEBUGPROC)(void), (*GLDEBUGPROCARB)(void), (*GLDEBUGPROCKHR)(void), (*GLDEBUGPROCAMD)(void),
    (*GLVULKANPROCNV)(void);
struct _cl_context;
struct _cl_event;

#include "generated.h"

#define TAP_EXPORT __attribute__((visibility("default")))
/* Runs before anything else does, a sanitizer's own beginning included. */
#define EARLY __attribute__((no_sanitize_thread, no_sanitize_address, no_sanitize_undefined))

/* ---- the packed call ---------------------------------------------------------------------- */


/* A growing buffer in private memory: a child that the program forks has its own, and no file stays open that the program
 * could close under the tap. */
typedef struct {
  uint8_t *base;
  uint64_t used, capacity;
} TapSink;

int tap_sink_open(TapSink *sink, uint64_t capacity);
/* A memory file with what is in some of them, one after the other, to be handed over; -1 with errno when there can be none. */
int tap_sinks_file(const TapSink *const *sinks, int count, const char *name);
void tap_sink_close(TapSink *sink);
uint8_t *tap_sink_take(TapSink *sink, uint64_t bytes); /* NULL when memory is out */

typedef struct {
  TapSink calls, arena;
  int failed;
} TapStream;

typedef struct {
  uint8_t slot, mode;
  const void *pointer;
  const int *lengths;
  uint64_t length;
} TapPointer;

typedef struct TapKept TapKept;
typedef struct {
  uint16_t id, slots, flags;
  uint8_t active, nested, pointers;
  uint8_t frame, journal, list_call; /* where it is appended: the frame, the journal, the open display list */
  uint8_t image, whole, bare;        /* an image is kept: defined anew; without its pixels */
  uint8_t turn, waits;               /* it has its turn; others may have it while it waits */
  uint32_t image_name, image_key;
  TapKept *list;
  uint64_t begin, end;
  uint64_t s[TAP_MAX_SLOTS];
  TapPointer p[TAP_MAX_POINTERS];
} TapCall;

extern const char *const tap_names[TAP_COMMANDS];
extern const unsigned char tap_slots[TAP_COMMANDS];
extern void *const tap_wrappers[TAP_FUNCTIONS];

/* ---- windows ---------------------------------------------------------------------------------- */

enum { TAP_PLATFORM_NONE, TAP_PLATFORM_GLX, TAP_PLATFORM_EGL };
typedef struct {
  int platform;
  void *display;
  uintptr_t drawable;
} TapDrawable;

/* ---- recording ------------------------------------------------------------------------------ */

enum { TAP_RECORDING = 1, TAP_MARKERS = 2, TAP_LISTING = 4, TAP_HOLDING = 8 };
extern int tap_mode; /* 0 while idle: the one branch a wrapper takes. Any thread may change it, so: */
static inline int tap_mode_now(void) { return __atomic_load_n(&tap_mode, __ATOMIC_ACQUIRE); }
static inline void tap_mode_set(int bits) { __atomic_or_fetch(&tap_mode, bits, __ATOMIC_ACQ_REL); }
static inline void tap_mode_clear(int bits) { __atomic_and_fetch(&tap_mode, ~bits, __ATOMIC_ACQ_REL); }
typedef struct {
  uint64_t calls, draws, vertices;
} TapCounts;
extern TapCounts tap_counts;
/* Threads that count at the same moment may lose a count, never tear one: an exact sum would slow every call. */
#define TAP_COUNT(counter, by) __atomic_store_n(&(counter), __atomic_load_n(&(counter), __ATOMIC_RELAXED) + (by), __ATOMIC_RELAXED)
extern __thread uint64_t tap_waited_ns; /* in calls that can block for earlier work, of this thread */
extern TapStream tap_frame, tap_journal;

enum {
  TAP_BINDING_UNPACK, TAP_BINDING_PACK, TAP_BINDING_ELEMENTS, TAP_BINDING_INDIRECT, TAP_BINDING_QUERY, TAP_BINDING_ARRAYS,
  TAP_BINDINGS, TAP_BINDING_NONE = TAP_BINDINGS
};
int tap_buffer_bound(int binding); /* in the context of this thread */

int tap_stream_open(TapStream *stream, uint64_t calls, uint64_t arena); /* with room for so many bytes at first */
void tap_stream_close(TapStream *stream);
/* The journal and `count` more sinks (at most two) in one file, as above. */
int tap_journal_file(const TapSink *const *more, int count, uint64_t *calls, uint64_t *arena);
void tap_append(TapStream *stream, TapCall *call);
int tap_recording_here(void);  /* whether this thread's context is the one whose frame is recorded */
int tap_recording_group(void); /* whether it is that one or shares objects with it, so that its calls belong to the frame */
void tap_recording_starts(const TapDrawable *drawable); /* with the context and window of this thread */
void tap_recording_returns(void);                       /* to them */
void tap_call_open(TapCall *c, int id, int slots, int journal);
void tap_call_waits(TapCall *c);
void tap_call_start(TapCall *c);
void tap_call_stop(TapCall *c);
void tap_call_close(TapCall *c);
void tap_in(TapCall *c, int slot, const void *pointer, uint64_t length);
void tap_out(TapCall *c, int slot, const void *pointer);
void tap_lost(TapCall *c, int slot, const void *pointer);
void tap_strings(TapCall *c, int slot, const char *const *strings, const int *lengths, uint64_t count);
void tap_buffer_or_in(TapCall *c, int slot, const void *pointer, int binding, uint64_t length);
void tap_buffer_or_out(TapCall *c, int slot, const void *pointer, int binding);
void tap_array_pointer(TapCall *c, int slot, const void *pointer);
uint64_t tap_now(void);
uint64_t tap_stamp(void);
void tap_begin_stamps(void);
void tap_skip_stamps(uint64_t since);
void tap_settle_stamps(TapStream *stream);
uint32_t tap_thread(void);

static inline uint64_t tap_from_float(float value) {
  union { float f; uint32_t u; } v = {value};
  return v.u;
}
static inline float tap_to_float(uint64_t slot) {
  union { uint32_t u; float f; } v = {(uint32_t)slot};
  return v.f;
}
static inline uint64_t tap_from_double(double value) {
  union { double d; uint64_t u; } v = {value};
  return v.u;
}
static inline double tap_to_double(uint64_t slot) {
  union { uint64_t u; double d; } v = {slot};
  return v.d;
}

/* ---- what is kept beside the calls themselves --------------------------------------------------- */

TapKept *tap_open_list(void); /* of this thread, or NULL */
void tap_list_begin(GLuint list, GLenum mode);
void tap_list_end(void);
void tap_lists_delete(GLuint first, GLsizei range);
void tap_keep_image(TapCall *c, GLenum target, GLint level, GLenum format, int whole);
void tap_kept_append(TapKept *list, TapCall *call);
void tap_kept_image(TapCall *call);
void tap_kept_remove(int kind, int64_t count, const GLuint *names);
int tap_kept_write(TapSink *sink, uint32_t group);

void tap_arrays(TapCall *draw, int64_t first, int64_t count, int64_t instances, uint64_t base);
void tap_arrays_multi(TapCall *draw, const GLint *first, const GLsizei *count, int64_t draws);
void tap_arrays_indexed(TapCall *draw, GLenum type, const void *indices, int64_t count, int64_t base_vertex, int64_t instances, uint64_t base);
void tap_arrays_split(TapCall *draw, GLenum mode, const GLsizei *count, GLenum type, const void *const *indices, int64_t draws, const GLint *base);
void tap_array_element(TapCall *draw);

GLuint tap_bound_buffer(GLenum target);
void tap_keep_mapping(GLuint buffer, GLintptr offset, GLsizeiptr length);
void tap_indirect(TapCall *draw, const void *indirect, GLintptr count_at, int64_t draws, int64_t stride, uint64_t unit);
void tap_watch(GLuint buffer);
void tap_unwatch(GLuint buffer);
void tap_unwatch_all(void);
void tap_compare_mappings(void);

/* ---- memory that objects were given ------------------------------------------------------------------- */

typedef struct {
  uint64_t textures, renderbuffers, buffers; /* bytes */
  uint64_t objects;
} TapMemory;
extern TapMemory tap_memory; /* written under its lock, read by anybody */
typedef struct {
  uint32_t format;
  uint16_t bits; /* of a block */
  uint8_t width, height, depth;
} TapTexel;
extern const TapTexel tap_texels[TAP_TEXELS]; /* by format, in order */
void tap_memory_born(int class_, int64_t count, const GLuint *names);
void tap_memory_gone(int class_, int64_t count, const GLuint *names);
void tap_buffer_stored(GLuint name, int64_t size);
void tap_image_stored(GLuint name, GLenum target, int level, int levels, GLenum format, int64_t width, int64_t height, int64_t depth,
                      int64_t samples);
void tap_mipmaps_stored(GLuint name, GLenum target);
void tap_renderbuffer_stored(GLuint name, GLenum format, int64_t width, int64_t height, int64_t samples);
void tap_group_begins(const char *text, int64_t length);
void tap_group_ends(void);
int tap_memory_write(TapSink *sink);
GLenum tap_texture_binding(GLenum target); /* what tells which texture is bound to it; 0 for proxies */

/* ---- sizes ------------------------------------------------------------------------------------ */

static inline uint64_t tap_count(int64_t count) { return count > 0 ? (uint64_t)count : 0; }
uint64_t tap_string_size(const char *string, int64_t length);
uint64_t tap_type_size(GLenum type);
uint64_t tap_pname_count(GLenum pname);
uint64_t tap_pixel_size(GLenum format, GLenum type);
uint64_t tap_image_size(GLenum format, GLenum type, int64_t width, int64_t height, int64_t depth, int dimensions);
uint64_t tap_packed_image_size(GLenum format, GLenum type, int64_t width, int64_t height, int64_t depth, int dimensions);
uint64_t tap_map_size(GLenum target, uint64_t element, int64_t ustride, int64_t uorder, int64_t vstride, int64_t vorder);

/* ---- contexts, names, the real functions -------------------------------------------------------- */

typedef struct TapContext {
  struct TapContext *next;
  void *handle;
  uint32_t id, group;
  int known, es, core, major, minor;
  uintptr_t drawable; /* the last that it was current with */
  int *sharing;       /* how many contexts of its group are alive */
} TapContext;

TapContext *tap_context(void); /* of this thread; never NULL */
static inline int tap_version(void) { /* times ten */
  TapContext *c = tap_context();
  return c->major * 10 + c->minor;
}
void tap_run_begins(void);
void tap_run_ends(void);
GLint tap_get(GLenum pname);   /* one integer of the real context */
void *tap_resolve(int id);
void *tap_system_function(const char *name); /* of GLX or EGL */
extern void *tap_reals[TAP_FUNCTIONS];
static inline void *tap_real(int id) {
  void *real = __atomic_load_n(&tap_reals[id], __ATOMIC_RELAXED);
  return __builtin_expect(real != NULL, 1) ? real : tap_resolve(id);
}
#define TAP_REAL(name, type) ((type)tap_real(TAP_ID_##name))

enum {
  TAP_CLASS_BUFFER, TAP_CLASS_TEXTURE, TAP_CLASS_SAMPLER, TAP_CLASS_RENDERBUFFER, TAP_CLASS_PROGRAM,
  TAP_CLASS_SHADER, TAP_CLASS_SHARED_END, TAP_CLASS_FRAMEBUFFER = TAP_CLASS_SHARED_END, TAP_CLASS_VERTEX_ARRAY,
  TAP_CLASS_PIPELINE, TAP_CLASS_TRANSFORM_FEEDBACK, TAP_CLASS_QUERY, TAP_CLASSES
};
void tap_name_add(int class_, int64_t count, const GLuint *names);
void tap_name_remove(int class_, int64_t count, const GLuint *names);
int tap_names_write(TapSink *sink); /* triples (class, owner, name); returns 0 or -1 */
void tap_contexts_write(TapSink *sink);

/* ---- locks: all here, so that a child of fork finds every one of them open ------------------------------ */

#include <pthread.h>
enum { TAP_LOCK_JOURNAL, TAP_LOCK_KEPT, TAP_LOCK_NAMES, TAP_LOCK_MEMORY, TAP_LOCK_CONTEXTS, TAP_LOCK_CONVERSATION, TAP_LOCK_TURN, TAP_LOCKS };
extern pthread_mutex_t tap_locks[TAP_LOCKS];
/* A thread that holds one of them cannot be cancelled: it would keep it for ever. */
extern __thread int tap_locks_held, tap_cancel_state;
static inline void tap_hold_cancel(void) {
  if (!tap_locks_held++) pthread_setcancelstate(PTHREAD_CANCEL_DISABLE, &tap_cancel_state);
}
static inline void tap_allow_cancel(void) {
  int unused;
  if (!--tap_locks_held) pthread_setcancelstate(tap_cancel_state, &unused);
}
static inline void tap_lock(int which) {
  tap_hold_cancel();
  pthread_mutex_lock(&tap_locks[which]);
}
static inline int tap_try_lock(int which) {
  tap_hold_cancel();
  if (pthread_mutex_trylock(&tap_locks[which]) == 0) return 1;
  tap_allow_cancel();
  return 0;
}
static inline void tap_unlock(int which) {
  pthread_mutex_unlock(&tap_locks[which]);
  tap_allow_cancel();
}
void tap_locks_after_fork(void);

/* ---- turns: while a frame is recorded, or its program held, threads whose contexts share objects call one at a time ----- */

int tap_alone(void); /* whether no other context shares the objects of this thread's */
void tap_turn_take(void);
void tap_turn_leave(void);

/* ---- boundaries and the control socket ------------------------------------------------------------ */

void tap_frame_ends(int kind, const TapDrawable *drawable);
void tap_frame_ended(int kind, const TapDrawable *drawable, uint64_t swap_begin, uint64_t swap_end);
void tap_at_marker(int kind);
TapDrawable tap_current_drawable(void);
void tap_meet(void);
void *tap_next(const char *name); /* the function of that name in the libraries after this one; takes no memory */
void tap_drawable_size(const TapDrawable *drawable, uint64_t *width, uint64_t *height);
void tap_connect(void);
void tap_context_ends(const TapContext *context);
void tap_fall_silent(void); /* for good, and for all children */
uint64_t tap_frame_number(void); /* frames ended so far */
GLenum tap_take_error(void);

/* ---- executor -------------------------------------------------------------------------------------- */

enum { TAP_RUN_OK, TAP_RUN_MALFORMED, TAP_RUN_POINTER, TAP_RUN_SHORT, TAP_RUN_MISSING, TAP_RUN_ADDRESS, TAP_RUN_MEMORY };
typedef struct {
  const uint8_t *arena;
  uint64_t arena_size;
  uint8_t *out;
  uint64_t out_size;
  int error;
  void *scratch[TAP_MAX_POINTERS];
  int scratches;
} TapRun;
typedef void (*TapRunner)(TapRun *run, uint64_t *slots);
extern const TapRunner tap_runners[TAP_COMMANDS];

/* `binding` says which buffer makes a bare number an offset; without one a bare number is an address, and refused. */
const void *tap_run_in(TapRun *r, const uint64_t *s, int slot, uint64_t need, int binding);
const char *tap_run_text(TapRun *r, const uint64_t *s, int slot, int64_t length);
const void *tap_run_offsets(TapRun *r, const uint64_t *s, int slot, uint64_t need);
void *tap_run_out(TapRun *r, const uint64_t *s, int slot, uint64_t need, int binding);
void *tap_run_retained(TapRun *r, uint64_t need);
const char **tap_run_strings(TapRun *r, const uint64_t *s, int slot, uint64_t count, const GLint *lengths);
/* Refuse draws that leave the client arrays which the run brought along. */
extern int tap_client_arrays;
void tap_run_arrays(TapRun *r, int64_t first, int64_t count, int64_t instances, uint64_t base);
void tap_run_arrays_multi(TapRun *r, const GLint *first, const GLsizei *count, int64_t draws);
void tap_run_arrays_indexed(TapRun *r, GLenum type, const void *indices, int64_t count, int64_t base_vertex, int64_t instances, uint64_t base);
void tap_run_arrays_split(TapRun *r, const GLsizei *count, GLenum type, const void *const *indices, int64_t draws, const GLint *base);
void wendaClock_run(uint64_t *nanoseconds);
void wendaDrainedClock_run(uint64_t *nanoseconds);
void wendaString_run(GLenum name, GLint index, GLsizei size, char *text);
void wendaWriteBuffer_run(GLuint buffer, GLintptr offset, GLsizeiptr size, const void *data);
void wendaReadBuffer_run(GLuint buffer, GLintptr offset, GLsizeiptr size, void *data);
void wendaWatchBuffer_run(GLuint buffer);
void wendaIndirect_run(GLsizei size, const void *data);
void wendaContext_run(GLuint context);
void wendaDrawable_run(GLuint64 drawable, GLuint width, GLuint height);
void wendaClientArray_run(GLenum array, GLuint index, GLint size, GLenum type, GLuint flags, GLsizei stride, GLuint divisor,
                          GLintptr skip, GLsizeiptr length, const void *data);

/* Where `wendaDrawable` finds the surfaces of this process. */
TAP_EXPORT void tap_set_surface(uint64_t number, void *display, void *surface);

/* Runs packed calls. Returns the number of calls run; when a call is refused, `*error` says why and
 * the return value is its index. `progress`, if given, holds the index of the call being run. */
TAP_EXPORT int64_t tap_execute(uint64_t *calls, uint64_t words, const uint8_t *arena, uint64_t arena_size, uint8_t *out,
                               uint64_t out_size, int timed, volatile uint64_t *progress, int32_t *error);

/* ---- the watch over a replay process: guard.c ---------------------------------------------------------- */

extern uint64_t tap_guard_call;
extern uint32_t tap_guard_id;
/* Ends this process when the other end of the socket `fd` is gone, or when a call takes longer than `seconds` (0: as the
 * command needs). Returns 0, or the error that kept the thread from starting. */
TAP_EXPORT int tap_guard(int fd, unsigned seconds);
TAP_EXPORT void tap_guard_doing(const char *what);
