/* Buffers that the program writes through pointers: what it wrote becomes calls of our own. */
#include <stdlib.h>
#include <string.h>
#include "tap.h"

#define PAGE 4096u
#define MAP_WRITE 0x2
#define MAP_FLUSH_EXPLICIT 0x10
#define MAP_PERSISTENT 0x40

typedef struct Watched {
  struct Watched *next;
  GLuint buffer;
  const uint8_t *base;
  uint8_t *shadow; /* what Wendascope knows the buffer to hold */
  uint64_t size;
} Watched;

static Watched *watched;

typedef struct {
  void *base;
  GLint size, access, offset;
} Mapping;

GLuint tap_bound_buffer(GLenum target) {
  static const GLenum pairs[][2] = {
      {GL_ARRAY_BUFFER, GL_ARRAY_BUFFER_BINDING}, {GL_ELEMENT_ARRAY_BUFFER, GL_ELEMENT_ARRAY_BUFFER_BINDING},
      {GL_PIXEL_PACK_BUFFER, GL_PIXEL_PACK_BUFFER_BINDING}, {GL_PIXEL_UNPACK_BUFFER, GL_PIXEL_UNPACK_BUFFER_BINDING},
      {GL_UNIFORM_BUFFER, GL_UNIFORM_BUFFER_BINDING}, {GL_TEXTURE_BUFFER, GL_TEXTURE_BUFFER},
      {GL_TRANSFORM_FEEDBACK_BUFFER, GL_TRANSFORM_FEEDBACK_BUFFER_BINDING}, {GL_COPY_READ_BUFFER, GL_COPY_READ_BUFFER},
      {GL_COPY_WRITE_BUFFER, GL_COPY_WRITE_BUFFER}, {GL_DRAW_INDIRECT_BUFFER, GL_DRAW_INDIRECT_BUFFER_BINDING},
      {GL_DISPATCH_INDIRECT_BUFFER, GL_DISPATCH_INDIRECT_BUFFER_BINDING}, {GL_QUERY_BUFFER, GL_QUERY_BUFFER_BINDING},
      {GL_SHADER_STORAGE_BUFFER, GL_SHADER_STORAGE_BUFFER_BINDING}, {GL_ATOMIC_COUNTER_BUFFER, GL_ATOMIC_COUNTER_BUFFER_BINDING}};
  for (size_t i = 0; i < sizeof pairs / sizeof *pairs; i++)
    if (pairs[i][0] == target) return (GLuint)tap_get(pairs[i][1]);
  return 0;
}

/* A target that no draw reads, where the context has one. */
static GLenum spare_target(void) { return tap_version() >= (tap_context()->es ? 30 : 31) ? GL_COPY_WRITE_BUFFER : GL_ARRAY_BUFFER; }

static GLuint bind(GLenum target, GLuint buffer) {
  GLuint before = tap_bound_buffer(target);
  TAP_REAL(glBindBuffer, void (*)(GLenum, GLuint))(target, buffer);
  return before;
}

static Mapping mapping_of(GLuint buffer) {
  Mapping m = {NULL, 0, MAP_WRITE, 0};
  GLenum target = spare_target();
  GLuint before = bind(target, buffer);
  void (*pointer)(GLenum, GLenum, void **) = TAP_REAL(glGetBufferPointerv, void (*)(GLenum, GLenum, void **));
  void (*parameter)(GLenum, GLenum, GLint *) = TAP_REAL(glGetBufferParameteriv, void (*)(GLenum, GLenum, GLint *));
  if (pointer) pointer(target, GL_BUFFER_MAP_POINTER, &m.base);
  if (m.base && tap_version() >= 30) {
    parameter(target, GL_BUFFER_MAP_LENGTH, &m.size);
    parameter(target, GL_BUFFER_MAP_OFFSET, &m.offset);
    parameter(target, GL_BUFFER_ACCESS_FLAGS, &m.access);
  } else if (m.base) {
    parameter(target, GL_BUFFER_SIZE, &m.size);
  }
  bind(target, before);
  return m;
}

static void write_call(GLuint buffer, uint64_t offset, const uint8_t *data, uint64_t size, int earlier) {
  TapCall c = {.id = TAP_ID_wendaWriteBuffer, .slots = tap_slots[TAP_ID_wendaWriteBuffer], .flags = earlier ? TAP_FLAG_EARLIER : 0};
  c.s[TAP_SLOT_wendaWriteBuffer_buffer] = buffer;
  c.s[TAP_SLOT_wendaWriteBuffer_offset] = offset;
  c.s[TAP_SLOT_wendaWriteBuffer_size] = size;
  tap_in(&c, TAP_SLOT_wendaWriteBuffer_data, data, size);
  c.begin = c.end = tap_stamp();
  tap_append(&tap_frame, &c);
}

/* Before a mapping ends or is flushed. `length` < 0: all of it. */
void tap_keep_mapping(GLuint buffer, GLintptr offset, GLsizeiptr length) {
  if (!buffer || !tap_recording_group()) return;
  Mapping m = mapping_of(buffer);
  if (!m.base || !(m.access & MAP_WRITE) || (length < 0 && (m.access & MAP_FLUSH_EXPLICIT))) return;
  if (length < 0) length = m.size;
  if (offset < 0 || offset + length > m.size) return;
  write_call(buffer, (uint64_t)(m.offset + offset), (uint8_t *)m.base + offset, (uint64_t)length, 0);
  if (offset == 0 && length == m.size) tap_unwatch(buffer);
}

/* A mapping that stays while the program draws: remembered, and compared at every wait of the frame. */
void tap_watch(GLuint buffer) {
  Mapping m = mapping_of(buffer);
  if (!m.base || !(m.access & MAP_WRITE) || !(m.access & MAP_PERSISTENT)) return;
  tap_unwatch(buffer);
  Watched *w = calloc(1, sizeof *w);
  if (!w || !(w->shadow = malloc((size_t)m.size))) {
    free(w);
    return;
  }
  w->buffer = buffer;
  w->base = m.base;
  w->size = (uint64_t)m.size;
  memcpy(w->shadow, m.base, w->size);
  w->next = watched;
  watched = w;
}

void tap_unwatch(GLuint buffer) {
  for (Watched **at = &watched; *at; at = &(*at)->next)
    if ((*at)->buffer == buffer) {
      Watched *w = *at;
      *at = w->next;
      free(w->shadow);
      free(w);
      return;
    }
}

void tap_unwatch_all(void) {
  while (watched) tap_unwatch(watched->buffer);
}

/* A call that may wait for the GPU: what was written since the one before it was there for every draw between them,
 * since writing where a draw may still read needs a wait first. Such writes belong right after the earlier wait. */
void tap_compare_mappings(void) {
  if (!watched || !tap_recording_group()) return;
  for (Watched *w = watched; w; w = w->next) {
    if (memcmp(w->base, w->shadow, w->size) == 0) continue;
    for (uint64_t at = 0; at < w->size;) {
      uint64_t end = at;
      while (end < w->size) {
        uint64_t page = w->size - end < PAGE ? w->size - end : PAGE;
        if (memcmp(w->base + end, w->shadow + end, page) == 0) break;
        end += page;
      }
      if (end > at) {
        memcpy(w->shadow + at, w->base + at, end - at);
        write_call(w->buffer, at, w->shadow + at, end - at, 1);
      }
      at = end + PAGE;
    }
  }
}

/* What an indirect draw finds in its buffer, noted for display: the counts of `draws` rows of `unit` bytes. */
void tap_indirect(TapCall *draw, const void *indirect, GLintptr count_at, int64_t draws, int64_t stride, uint64_t unit) {
  if (!draw->frame || draws <= 0 || draws > 1 << 20) return;
  if (stride <= 0) stride = (int64_t)unit;
  if (count_at >= 0) {
    uint32_t count = 0;
    wendaReadBuffer_run((GLuint)tap_get(GL_PARAMETER_BUFFER_BINDING), count_at, 4, &count);
    if (count < draws) draws = count;
  }
  if (draws <= 0) return;
  uint64_t size = (uint64_t)(draws - 1) * (uint64_t)stride + unit;
  uint8_t *read = calloc(1, size), *rows = malloc((uint64_t)draws * unit);
  GLuint buffer = (GLuint)tap_get(GL_DRAW_INDIRECT_BUFFER_BINDING);
  if (read && rows) {
    if (buffer) wendaReadBuffer_run(buffer, (GLintptr)indirect, (GLsizeiptr)size, read);
    else if (indirect) memcpy(read, indirect, size);
    for (int64_t i = 0; i < draws; i++) memcpy(rows + (uint64_t)i * unit, read + i * stride, unit);
    TapCall c = {.id = TAP_ID_wendaIndirect, .slots = 3, .s = {(uint64_t)draws * unit}};
    tap_in(&c, 1, rows, (uint64_t)draws * unit);
    c.begin = c.end = tap_stamp();
    tap_append(&tap_frame, &c);
  }
  free(read);
  free(rows);
}

/* ---- run by the executor ---------------------------------------------------------------------------------- */

void wendaIndirect_run(GLsizei size, const void *data) {
  (void)size;
  (void)data;
}

void wendaContext_run(GLuint context) { (void)context; }

void wendaWatchBuffer_run(GLuint buffer) { tap_watch(buffer); }

void wendaWriteBuffer_run(GLuint buffer, GLintptr offset, GLsizeiptr size, const void *data) {
  if (!buffer || offset < 0 || size <= 0) return;
  Mapping m = mapping_of(buffer);
  if (m.base && (m.access & MAP_WRITE)) {
    int64_t at = offset - m.offset;
    if (at >= 0 && size <= m.size && at <= m.size - size) memcpy((uint8_t *)m.base + at, data, (size_t)size);
    return;
  }
  GLenum target = spare_target();
  GLuint before = bind(target, buffer);
  TAP_REAL(glBufferSubData, void (*)(GLenum, GLintptr, GLsizeiptr, const void *))(target, offset, size, data);
  bind(target, before);
}

/* Contents of a buffer where glGetBufferSubData does not exist. Leaves `data` alone when they cannot be had. */
void wendaReadBuffer_run(GLuint buffer, GLintptr offset, GLsizeiptr size, void *data) {
  if (!buffer || offset < 0 || size <= 0) return;
  Mapping m = mapping_of(buffer);
  const int readable = 1;
  if (m.base) { /* mapped by the program: what lies in the mapping */
    int64_t from = offset > m.offset ? offset : m.offset;
    int64_t to = offset + size < m.offset + m.size ? offset + size : (int64_t)m.offset + m.size;
    if (to > from) memcpy((uint8_t *)data + (from - offset), (uint8_t *)m.base + (from - m.offset), (size_t)(to - from));
    return;
  }
  GLenum target = spare_target();
  GLuint before = bind(target, buffer);
  typedef void *(*Map)(GLenum, GLintptr, GLsizeiptr, GLbitfield);
  Map map = tap_version() >= 30 ? TAP_REAL(glMapBufferRange, Map) : TAP_REAL(glMapBufferRangeEXT, Map);
  void *base = map ? map(target, offset, size, (GLbitfield)readable) : NULL;
  if (base) {
    memcpy(data, base, (size_t)size);
    typedef GLboolean (*Unmap)(GLenum);
    (tap_version() >= 30 ? TAP_REAL(glUnmapBuffer, Unmap) : TAP_REAL(glUnmapBufferOES, Unmap))(target);
  }
  bind(target, before);
}
