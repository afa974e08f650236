/* Recording: wrappers open a call, keep what it points to, and append it to the frame or the journal. */
#define _GNU_SOURCE
#include <pthread.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>
#include "tap.h"

volatile int tap_mode;
TapCounts tap_counts;
TapStream tap_frame, tap_journal;
uint32_t tap_recording_thread;
TapContext *tap_recording_context;
uint64_t tap_elsewhere;
static pthread_mutex_t journal_lock = PTHREAD_MUTEX_INITIALIZER;
static __thread uint32_t thread_id;
static __thread int depth; /* a real function that calls another wrapped one is recorded once */

uint64_t tap_now(void) {
  struct timespec t;
  clock_gettime(CLOCK_MONOTONIC, &t);
  return (uint64_t)t.tv_sec * 1000000000ull + (uint64_t)t.tv_nsec;
}

uint32_t tap_thread(void) {
  if (!thread_id) thread_id = (uint32_t)syscall(SYS_gettid);
  return thread_id;
}

int tap_sink_open(TapSink *sink, const char *name, uint64_t capacity) {
  memset(sink, 0, sizeof *sink);
  sink->fd = memfd_create(name, MFD_CLOEXEC);
  if (sink->fd < 0) return -1;
  if (ftruncate(sink->fd, (off_t)capacity) == 0) {
    sink->base = mmap(NULL, capacity, PROT_READ | PROT_WRITE, MAP_SHARED, sink->fd, 0);
    if (sink->base != MAP_FAILED) {
      sink->capacity = capacity;
      return 0;
    }
  }
  close(sink->fd);
  memset(sink, 0, sizeof *sink);
  sink->fd = -1;
  return -1;
}

void tap_sink_close(TapSink *sink) {
  if (!sink->base) return;
  munmap(sink->base, sink->capacity);
  close(sink->fd);
  memset(sink, 0, sizeof *sink);
}

uint8_t *tap_sink_take(TapSink *sink, uint64_t bytes) {
  if (!sink->base) return NULL;
  if (sink->used + bytes > sink->capacity) {
    uint64_t capacity = sink->capacity * 2;
    while (sink->used + bytes > capacity) capacity *= 2;
    if (ftruncate(sink->fd, (off_t)capacity) != 0) return NULL;
    void *moved = mremap(sink->base, sink->capacity, capacity, MREMAP_MAYMOVE);
    if (moved == MAP_FAILED) return NULL;
    sink->base = moved;
    sink->capacity = capacity;
  }
  uint8_t *at = sink->base + sink->used;
  sink->used += bytes;
  return at;
}

int tap_stream_open(TapStream *stream, const char *name, uint64_t capacity) {
  stream->failed = 0;
  if (tap_sink_open(&stream->calls, name, capacity) != 0) return -1;
  if (tap_sink_open(&stream->arena, name, capacity) != 0) {
    tap_sink_close(&stream->calls);
    return -1;
  }
  return 0;
}

void tap_stream_close(TapStream *stream) {
  tap_sink_close(&stream->calls);
  tap_sink_close(&stream->arena);
}

void tap_call_open(TapCall *c, int id, int slots, int journal) {
  c->id = (uint16_t)id;
  c->slots = (uint16_t)slots;
  c->flags = 0;
  c->pointers = 0;
  c->frame = 0;
  if ((tap_mode & TAP_RECORDING) && depth == 0) {
    c->frame = tap_thread() == tap_recording_thread && tap_context() == tap_recording_context;
    if (!c->frame) __atomic_add_fetch(&tap_elsewhere, 1, __ATOMIC_RELAXED);
  }
  c->journal = (uint8_t)(journal && depth == 0);
  c->active = c->frame || c->journal;
  depth++;
}

void tap_call_start(TapCall *c) {
  if (c->active) c->begin = tap_now();
}

void tap_call_stop(TapCall *c) {
  if (c->active) c->end = tap_now();
}

static void add_pointer(TapCall *c, int slot, int mode, const void *pointer, const int *lengths, uint64_t length) {
  TapPointer *p = &c->p[c->pointers++];
  p->slot = (uint8_t)slot;
  p->mode = (uint8_t)mode;
  p->pointer = pointer;
  p->lengths = lengths;
  p->length = length;
}

static void raw(TapCall *c, int slot, const void *pointer) {
  c->s[slot] = TAP_POINTER_RAW << 60;
  c->s[slot + 1] = (uint64_t)(uintptr_t)pointer;
}

void tap_in(TapCall *c, int slot, const void *pointer, uint64_t length) {
  if (!pointer) raw(c, slot, NULL);
  else add_pointer(c, slot, TAP_POINTER_BLOB, pointer, NULL, length);
}

void tap_strings(TapCall *c, int slot, const char *const *strings, const int *lengths, uint64_t count) {
  if (!strings) raw(c, slot, NULL);
  else add_pointer(c, slot, TAP_POINTER_STRINGS, strings, lengths, count);
}

void tap_out(TapCall *c, int slot, const void *pointer) {
  c->s[slot] = TAP_POINTER_OUT << 60;
  c->s[slot + 1] = 0;
}

void tap_lost(TapCall *c, int slot, const void *pointer) {
  raw(c, slot, NULL);
  if (pointer) c->flags |= TAP_FLAG_LOST;
}

static int buffer_bound(int binding) {
  static const GLenum names[] = {GL_PIXEL_UNPACK_BUFFER_BINDING, GL_PIXEL_PACK_BUFFER_BINDING,
                                 GL_ELEMENT_ARRAY_BUFFER_BINDING, GL_DRAW_INDIRECT_BUFFER_BINDING,
                                 GL_QUERY_BUFFER_BINDING};
  TapContext *context = tap_context();
  int version = context->major * 10 + context->minor;
  static const int since[] = {21, 21, 15, 40, 44}, since_es[] = {30, 30, 20, 31, 99};
  if (version < (context->es ? since_es : since)[binding]) return 0;
  return tap_get(names[binding]) != 0;
}

void tap_buffer_or_in(TapCall *c, int slot, const void *pointer, int binding, uint64_t length) {
  if (buffer_bound(binding)) raw(c, slot, pointer);
  else tap_in(c, slot, pointer, length);
}

void tap_buffer_or_out(TapCall *c, int slot, const void *pointer, int binding) {
  if (buffer_bound(binding)) raw(c, slot, pointer);
  else tap_out(c, slot, pointer);
}

void tap_array_pointer(TapCall *c, int slot, const void *pointer) {
  raw(c, slot, pointer);
  if (pointer && tap_get(GL_ARRAY_BUFFER_BINDING) == 0) {
    c->s[slot + 1] = 0;
    c->flags |= TAP_FLAG_CLIENT_MEMORY;
  }
}

static uint64_t one_string(const TapPointer *p, uint64_t i) {
  const char *string = ((const char *const *)p->pointer)[i];
  if (!string) return 0;
  return p->lengths && p->lengths[i] >= 0 ? (uint64_t)p->lengths[i] : strlen(string);
}

/* Copies an array of strings as: lengths (4 bytes each), then the bytes, each with a closing NUL. */
static uint64_t append_strings(TapStream *stream, const TapPointer *p, uint64_t *length) {
  const char *const *strings = p->pointer;
  uint64_t total = p->length * 4;
  for (uint64_t i = 0; i < p->length; i++) total += one_string(p, i) + 1;
  uint64_t at = stream->arena.used;
  uint8_t *target = tap_sink_take(&stream->arena, (total + 8) & ~7ull);
  if (!target) {
    stream->failed = 1;
    return 0;
  }
  uint8_t *text = target + p->length * 4;
  for (uint64_t i = 0; i < p->length; i++) {
    uint32_t size = (uint32_t)one_string(p, i);
    memcpy(target + i * 4, &size, 4);
    if (size) memcpy(text, strings[i], size);
    text[size] = 0;
    text += size + 1;
  }
  *length = total;
  return at;
}

static uint64_t append_blob(TapStream *stream, const TapPointer *p) {
  uint64_t at = stream->arena.used;
  /* one spare byte: every blob is followed by a NUL, so a string never runs on */
  uint8_t *target = tap_sink_take(&stream->arena, (p->length + 8) & ~7ull);
  if (!target) {
    stream->failed = 1;
    return 0;
  }
  memcpy(target, p->pointer, p->length);
  return at;
}

static void append(TapStream *stream, TapCall *c) {
  if (stream->failed) return;
  for (int i = 0; i < c->pointers; i++) {
    const TapPointer *p = &c->p[i];
    uint64_t length = p->length;
    uint64_t at = p->mode == TAP_POINTER_STRINGS ? append_strings(stream, p, &length) : append_blob(stream, p);
    c->s[p->slot] = (uint64_t)p->mode << 60 | at;
    c->s[p->slot + 1] = length;
  }
  uint64_t words = TAP_HEADER_WORDS + c->slots;
  uint64_t *header = (uint64_t *)tap_sink_take(&stream->calls, words * 8);
  if (!header || stream->failed) {
    stream->failed = 1;
    return;
  }
  header[0] = c->id | (uint64_t)c->flags << 16 | words << 32;
  header[1] = tap_thread();
  header[2] = c->begin;
  header[3] = c->end;
  memcpy(header + TAP_HEADER_WORDS, c->s, c->slots * 8ul);
}

void tap_call_close(TapCall *c) {
  depth--;
  if (c->frame && (tap_mode & TAP_RECORDING)) append(&tap_frame, c);
  if (c->journal) {
    pthread_mutex_lock(&journal_lock);
    if (!tap_journal.calls.base && !tap_journal.failed) tap_journal.failed = tap_stream_open(&tap_journal, "wenda-journal", 1 << 16);
    uint64_t thread_and_group = tap_context()->group;
    append(&tap_journal, c);
    if (!tap_journal.failed) {
      uint64_t *header = (uint64_t *)(tap_journal.calls.base + tap_journal.calls.used) - TAP_HEADER_WORDS - c->slots;
      header[1] |= thread_and_group << 32; /* in the journal the error word holds the share group */
    }
    pthread_mutex_unlock(&journal_lock);
  }
}

/* Before a mapping ends or is flushed: its contents, as a call of our own that writes them. */
void tap_keep_mapping(GLenum target, GLuint buffer, GLintptr offset, GLsizeiptr length) {
  if (!(tap_mode & TAP_RECORDING) || tap_thread() != tap_recording_thread) return;
  void *base = NULL;
  GLint size = 0, access = 0;
  if (target) {
    TAP_REAL(glGetBufferPointerv, void (*)(GLenum, GLenum, void **))(target, GL_BUFFER_MAP_POINTER, &base);
    void (*parameter)(GLenum, GLenum, GLint *) = TAP_REAL(glGetBufferParameteriv, void (*)(GLenum, GLenum, GLint *));
    parameter(target, GL_BUFFER_MAP_LENGTH, &size);
    parameter(target, GL_BUFFER_ACCESS_FLAGS, &access);
  } else {
    TAP_REAL(glGetNamedBufferPointerv, void (*)(GLuint, GLenum, void **))(buffer, GL_BUFFER_MAP_POINTER, &base);
    void (*parameter)(GLuint, GLenum, GLint *) = TAP_REAL(glGetNamedBufferParameteriv, void (*)(GLuint, GLenum, GLint *));
    parameter(buffer, GL_BUFFER_MAP_LENGTH, &size);
    parameter(buffer, GL_BUFFER_ACCESS_FLAGS, &access);
  }
  const GLint write_bit = 2, explicit_flush = 0x10;
  if (!base || !(access & write_bit) || (length < 0 && (access & explicit_flush))) return;
  if (length < 0) length = size;
  if (offset < 0 || offset + length > size) return;
  TapCall c = {.id = TAP_ID_wendaWriteMapped, .slots = 6, .frame = 1, .active = 1};
  c.s[0] = target;
  c.s[1] = buffer;
  c.s[2] = (uint64_t)offset;
  c.s[3] = (uint64_t)length;
  tap_in(&c, 4, (uint8_t *)base + offset, (uint64_t)length);
  c.begin = c.end = tap_now();
  append(&tap_frame, &c);
}
