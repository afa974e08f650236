/* The executor: runs packed calls, checking every length before a pointer reaches the driver. */
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include "tap.h"

/* A bare number: NULL, or an offset into the buffer that is bound. Never an address: those of another process mean nothing
 * here, and a file could point anywhere with them. */
static int bare(TapRun *r, uint64_t value, int binding) {
  if (value && (binding == TAP_BINDING_NONE || !tap_buffer_bound(binding))) r->error = TAP_RUN_ADDRESS;
  return !r->error;
}

const void *tap_run_in(TapRun *r, const uint64_t *s, int slot, uint64_t need, int binding) {
  uint64_t mode = s[slot] >> 60, at = s[slot] & TAP_OFFSET_MASK, length = s[slot + 1];
  if (mode == TAP_POINTER_RAW) return bare(r, length, binding) ? (const void *)(uintptr_t)length : NULL;
  if (mode == TAP_POINTER_OUT) { /* what an earlier call of the batch gave */
    if (at > r->out_size || length > r->out_size - at) r->error = TAP_RUN_POINTER;
    else if (length < need) r->error = TAP_RUN_SHORT;
    return r->error ? NULL : r->out + at;
  }
  /* vertex arrays in client memory come by wendaClientArray, whose lengths draws are held against */
  if (mode != TAP_POINTER_BLOB || binding == TAP_BINDING_ARRAYS || at > r->arena_size || length > r->arena_size - at) {
    r->error = TAP_RUN_POINTER;
    return NULL;
  }
  if (length < need) r->error = TAP_RUN_SHORT;
  return r->error ? NULL : r->arena + at;
}

/* A string of `length` bytes, or up to a NUL where that is negative. */
const char *tap_run_text(TapRun *r, const uint64_t *s, int slot, int64_t length) {
  const char *text = tap_run_in(r, s, slot, length > 0 ? (uint64_t)length : 0, TAP_BINDING_NONE);
  if (text && length < 0) {
    const uint8_t *at = (const uint8_t *)text, *end = s[slot] >> 60 == TAP_POINTER_OUT ? r->out + r->out_size : r->arena + r->arena_size;
    if (!memchr(at, 0, (size_t)(end - at))) r->error = TAP_RUN_SHORT;
  }
  return text;
}

/* An array of offsets into the bound buffer of indices. */
const void *tap_run_offsets(TapRun *r, const uint64_t *s, int slot, uint64_t need) {
  const void *offsets = tap_run_in(r, s, slot, need, TAP_BINDING_NONE);
  if (offsets && need && !tap_buffer_bound(TAP_BINDING_ELEMENTS)) r->error = TAP_RUN_ADDRESS;
  return offsets;
}

void *tap_run_out(TapRun *r, const uint64_t *s, int slot, uint64_t need, int binding) {
  uint64_t mode = s[slot] >> 60, at = s[slot] & TAP_OFFSET_MASK, length = s[slot + 1];
  if (mode == TAP_POINTER_RAW) return bare(r, length, binding) ? (void *)(uintptr_t)length : NULL;
  if (mode != TAP_POINTER_OUT || at > r->out_size || length > r->out_size - at) {
    r->error = TAP_RUN_POINTER;
    return NULL;
  }
  if (length < need) r->error = TAP_RUN_SHORT;
  return r->out + at;
}

/* Memory that GL goes on writing to after the call: it outlives every run. */
#define RETAINED (4 << 20)
void *tap_run_retained(TapRun *r, uint64_t need) {
  static uint8_t memory[RETAINED];
  if (need > sizeof memory) r->error = TAP_RUN_SHORT;
  return memory;
}

const char **tap_run_strings(TapRun *r, const uint64_t *s, int slot, uint64_t count, const GLint *lengths) {
  uint64_t mode = s[slot] >> 60, at = s[slot] & TAP_OFFSET_MASK, length = s[slot + 1];
  if (r->error || (mode == TAP_POINTER_RAW && !length)) return NULL;
  if (mode != TAP_POINTER_STRINGS || at > r->arena_size || length > r->arena_size - at || count > length / 4 ||
      r->scratches >= TAP_MAX_POINTERS) {
    r->error = TAP_RUN_POINTER;
    return NULL;
  }
  const char **strings = malloc((count + 1) * sizeof *strings);
  if (!strings) {
    r->error = TAP_RUN_POINTER;
    return NULL;
  }
  r->scratch[r->scratches++] = strings;
  uint64_t used = count * 4;
  for (uint64_t i = 0; i < count; i++) {
    uint32_t size;
    memcpy(&size, r->arena + at + i * 4, 4);
    if (used >= length || size >= length - used || (lengths && lengths[i] > 0 && (uint32_t)lengths[i] > size)) {
      r->error = TAP_RUN_SHORT;
      return NULL;
    }
    strings[i] = (const char *)r->arena + at + used;
    if (strings[i][size] != 0) {
      r->error = TAP_RUN_SHORT;
      return NULL;
    }
    used += size + 1;
  }
  return strings;
}

static uint64_t clock_ns(clockid_t clock) {
  struct timespec t;
  clock_gettime(clock, &t);
  return (uint64_t)t.tv_sec * 1000000000ull + (uint64_t)t.tv_nsec;
}

/* Three clocks: of the wall, the CPU time of all threads of this process, and that of this thread. */
void wendaClock_run(uint64_t *nanoseconds) {
  nanoseconds[0] = tap_now();
  nanoseconds[1] = clock_ns(CLOCK_PROCESS_CPUTIME_ID);
  nanoseconds[2] = clock_ns(CLOCK_THREAD_CPUTIME_ID);
}

void wendaDrainedClock_run(uint64_t *nanoseconds) {
  TAP_REAL(glFinish, void (*)(void))();
  wendaClock_run(nanoseconds);
}

/* Strings of the driver, copied out: by index where `index` is not negative. */
void wendaString_run(GLenum name, GLint index, GLsizei size, char *text) {
  const char *string = index < 0 ? TAP_REAL(glGetString, const char *(*)(GLenum))(name)
                                 : TAP_REAL(glGetStringi, const char *(*)(GLenum, GLuint))(name, (GLuint)index);
  if (size > 0) strncpy(text, string ? string : "", (size_t)size - 1);
}

/* Another window of the program becomes current, in whatever context is. */
#define SURFACES 64
static struct { void *display, *surface; } surfaces[SURFACES];

void tap_set_surface(uint64_t number, void *display, void *surface) {
  if (number >= SURFACES) return;
  surfaces[number].display = display;
  surfaces[number].surface = surface;
}

void wendaDrawable_run(GLuint64 drawable, GLuint width, GLuint height) {
  (void)width;
  (void)height;
  if (drawable >= SURFACES || !surfaces[drawable].surface) return;
  unsigned (*make)(void *, void *, void *, void *) = (unsigned (*)(void *, void *, void *, void *))tap_system_function("eglMakeCurrent");
  void *(*current)(void) = (void *(*)(void))tap_system_function("eglGetCurrentContext");
  if (make && current) make(surfaces[drawable].display, surfaces[drawable].surface, surfaces[drawable].surface, current());
}

static int64_t run_all(uint64_t *calls, uint64_t words, const uint8_t *arena, uint64_t arena_size, uint8_t *out,
                    uint64_t out_size, int timed, volatile uint64_t *progress, int32_t *error) {
  TapRun run = {.arena = arena, .arena_size = arena_size, .out = out, .out_size = out_size};
  int64_t index = 0;
  *error = TAP_RUN_OK;
  for (uint64_t at = 0; at < words; index++) {
    if (progress) *progress = (uint64_t)index;
    if (words - at < TAP_HEADER_WORDS) {
      *error = TAP_RUN_MALFORMED;
      return index;
    }
    uint64_t *header = calls + at;
    uint64_t id = header[0] & 0xffff, size = header[0] >> 32;
    if (id >= TAP_COMMANDS || size != TAP_HEADER_WORDS + (uint64_t)tap_slots[id] || size > words - at) {
      *error = TAP_RUN_MALFORMED;
      return index;
    }
    run.error = TAP_RUN_OK;
    run.scratches = 0;
    __atomic_store_n(&tap_guard_id, (uint32_t)id, __ATOMIC_RELAXED);
    __atomic_store_n(&tap_guard_call, tap_guard_call + 1, __ATOMIC_RELAXED);
    if (timed) header[2] = tap_now();
    tap_runners[id](&run, header + TAP_HEADER_WORDS);
    if (timed) header[3] = tap_now();
    for (int i = 0; i < run.scratches; i++) free(run.scratch[i]);
    if (run.error) {
      *error = run.error;
      return index;
    }
    if (header[0] >> 16 & TAP_FLAG_CHECK_ERROR) {
      GLenum gl_error = TAP_REAL(glGetError, GLenum (*)(void))();
      header[1] = (header[1] & 0xffffffffull) | (uint64_t)gl_error << 32;
    }
    at += size;
  }
  return index;
}

int64_t tap_execute(uint64_t *calls, uint64_t words, const uint8_t *arena, uint64_t arena_size, uint8_t *out,
                    uint64_t out_size, int timed, volatile uint64_t *progress, int32_t *error) {
  static uint64_t runs;
  __atomic_store_n(&tap_guard_call, ++runs << 40, __ATOMIC_RELAXED); /* no two runs count the same */
  tap_run_begins();
  int64_t done = run_all(calls, words, arena, arena_size, out, out_size, timed, progress, error);
  tap_run_ends();
  __atomic_store_n(&tap_guard_call, 0, __ATOMIC_RELAXED);
  return done;
}
