/* Vertex arrays in client memory: before every draw, the part of them that the draw reads becomes a call of our own. */
#include <stdlib.h>
#include <string.h>
#include "tap.h"

#define GENERIC 0u
#define EVERY_ARRAY_OFF 1u
#define MOST_ARRAYS 64

typedef struct {
  GLenum array; /* GENERIC, or GL_VERTEX_ARRAY and its like */
  GLuint index; /* of a generic attribute, or the texture unit */
  GLint size, stride, normalized, integer, divisor;
  GLenum type;
  GLint buffer;
  uint8_t *pointer;
} Array;

/* The last copy of each array, so that draws which read the same data share it. */
static struct { const uint8_t *pointer; uint64_t length, at; } last_copies[MOST_ARRAYS];

static const struct {
  GLenum array, binding, size, type, stride, pointer;
} fixed[] = {
    {GL_VERTEX_ARRAY, GL_VERTEX_ARRAY_BUFFER_BINDING, GL_VERTEX_ARRAY_SIZE, GL_VERTEX_ARRAY_TYPE, GL_VERTEX_ARRAY_STRIDE, GL_VERTEX_ARRAY_POINTER},
    {GL_NORMAL_ARRAY, GL_NORMAL_ARRAY_BUFFER_BINDING, 0, GL_NORMAL_ARRAY_TYPE, GL_NORMAL_ARRAY_STRIDE, GL_NORMAL_ARRAY_POINTER},
    {GL_COLOR_ARRAY, GL_COLOR_ARRAY_BUFFER_BINDING, GL_COLOR_ARRAY_SIZE, GL_COLOR_ARRAY_TYPE, GL_COLOR_ARRAY_STRIDE, GL_COLOR_ARRAY_POINTER},
    {GL_SECONDARY_COLOR_ARRAY, GL_SECONDARY_COLOR_ARRAY_BUFFER_BINDING, GL_SECONDARY_COLOR_ARRAY_SIZE, GL_SECONDARY_COLOR_ARRAY_TYPE, GL_SECONDARY_COLOR_ARRAY_STRIDE, GL_SECONDARY_COLOR_ARRAY_POINTER},
    {GL_FOG_COORD_ARRAY, GL_FOG_COORD_ARRAY_BUFFER_BINDING, 0, GL_FOG_COORD_ARRAY_TYPE, GL_FOG_COORD_ARRAY_STRIDE, GL_FOG_COORD_ARRAY_POINTER},
    {GL_INDEX_ARRAY, GL_INDEX_ARRAY_BUFFER_BINDING, 0, GL_INDEX_ARRAY_TYPE, GL_INDEX_ARRAY_STRIDE, GL_INDEX_ARRAY_POINTER},
    {GL_EDGE_FLAG_ARRAY, GL_EDGE_FLAG_ARRAY_BUFFER_BINDING, 0, 0, GL_EDGE_FLAG_ARRAY_STRIDE, GL_EDGE_FLAG_ARRAY_POINTER},
    {GL_TEXTURE_COORD_ARRAY, GL_TEXTURE_COORD_ARRAY_BUFFER_BINDING, GL_TEXTURE_COORD_ARRAY_SIZE, GL_TEXTURE_COORD_ARRAY_TYPE, GL_TEXTURE_COORD_ARRAY_STRIDE, GL_TEXTURE_COORD_ARRAY_POINTER},
};
#define FIXED (sizeof fixed / sizeof *fixed)

static int enabled(GLenum cap) { return TAP_REAL(glIsEnabled, GLboolean (*)(GLenum))(cap); }
static void client_unit(GLuint unit) { TAP_REAL(glClientActiveTexture, void (*)(GLenum))(GL_TEXTURE0 + unit); }
static GLint units(void) { GLint n = tap_get(GL_MAX_TEXTURE_COORDS); return n < 0 ? 0 : n > 8 ? 8 : n; }

static int describe_fixed(Array *arrays, int count, size_t i, GLuint unit) {
  if (count >= MOST_ARRAYS || !enabled(fixed[i].array)) return count;
  Array a = {.array = fixed[i].array, .index = unit, .buffer = tap_get(fixed[i].binding)};
  a.size = fixed[i].size ? tap_get(fixed[i].size) : a.array == GL_NORMAL_ARRAY ? 3 : 1;
  a.type = fixed[i].type ? (GLenum)tap_get(fixed[i].type) : GL_UNSIGNED_BYTE;
  a.stride = tap_get(fixed[i].stride);
  void *pointer = NULL;
  TAP_REAL(glGetPointerv, void (*)(GLenum, void **))(fixed[i].pointer, &pointer);
  a.pointer = pointer;
  arrays[count] = a;
  return count + 1;
}

/* Every enabled array of the context. */
static int describe(Array *arrays) {
  TapContext *context = tap_context();
  int number = tap_version(), count = 0;
  if (!context->es) {
    for (size_t i = 0; i + 1 < FIXED; i++) count = describe_fixed(arrays, count, i, 0);
    GLint active = tap_get(GL_CLIENT_ACTIVE_TEXTURE) - GL_TEXTURE0;
    for (GLint unit = 0; unit < units(); unit++) {
      client_unit((GLuint)unit);
      count = describe_fixed(arrays, count, FIXED - 1, (GLuint)unit);
    }
    client_unit((GLuint)active);
    if (number < 20) return count;
  }
  void (*get)(GLuint, GLenum, GLint *) = TAP_REAL(glGetVertexAttribiv, void (*)(GLuint, GLenum, GLint *));
  GLint most = tap_get(GL_MAX_VERTEX_ATTRIBS);
  for (GLint i = 0; i < most && i < 32 && count < MOST_ARRAYS; i++) {
    GLint on = 0;
    get((GLuint)i, GL_VERTEX_ATTRIB_ARRAY_ENABLED, &on);
    if (!on) continue;
    Array a = {.array = GENERIC, .index = (GLuint)i};
    GLint type = 0;
    get((GLuint)i, GL_VERTEX_ATTRIB_ARRAY_BUFFER_BINDING, &a.buffer);
    get((GLuint)i, GL_VERTEX_ATTRIB_ARRAY_SIZE, &a.size);
    get((GLuint)i, GL_VERTEX_ATTRIB_ARRAY_TYPE, &type);
    get((GLuint)i, GL_VERTEX_ATTRIB_ARRAY_STRIDE, &a.stride);
    get((GLuint)i, GL_VERTEX_ATTRIB_ARRAY_NORMALIZED, &a.normalized);
    if (number >= 30) get((GLuint)i, GL_VERTEX_ATTRIB_ARRAY_INTEGER, &a.integer);
    if (number >= (context->es ? 30 : 33)) get((GLuint)i, GL_VERTEX_ATTRIB_ARRAY_DIVISOR, &a.divisor);
    a.type = (GLenum)type;
    void *pointer = NULL;
    TAP_REAL(glGetVertexAttribPointerv, void (*)(GLuint, GLenum, void **))((GLuint)i, GL_VERTEX_ATTRIB_ARRAY_POINTER, &pointer);
    a.pointer = pointer;
    arrays[count++] = a;
  }
  return count;
}

static uint64_t element_size(const Array *a) {
  if (a->type == GL_INT_2_10_10_10_REV || a->type == GL_UNSIGNED_INT_2_10_10_10_REV || a->type == GL_UNSIGNED_INT_10F_11F_11F_REV) return 4;
  return (uint64_t)(a->size == GL_BGRA ? 4 : a->size) * tap_type_size(a->type);
}

#define ARRAY(parameter) TAP_SLOT_wendaClientArray_##parameter

static void keep_in(TapStream *stream, TapCall *call, const Array *a, const uint8_t *data, uint64_t length, int slot) {
  uint8_t *arena = stream->arena.base;
  int shared = stream == &tap_frame && slot < MOST_ARRAYS;
  call->pointers = 0;
  if (shared && last_copies[slot].pointer == data && last_copies[slot].length == length && last_copies[slot].at + length <= stream->arena.used &&
      memcmp(arena + last_copies[slot].at, data, length) == 0) {
    call->s[ARRAY(data)] = TAP_POINTER_BLOB << 60 | last_copies[slot].at;
    call->s[ARRAY(data) + 1] = length;
    tap_append(stream, call);
    return;
  }
  tap_in(call, ARRAY(data), data, length);
  tap_append(stream, call);
  if (shared) {
    last_copies[slot].pointer = data;
    last_copies[slot].length = length;
    last_copies[slot].at = call->s[ARRAY(data)] & TAP_OFFSET_MASK;
  }
}

/* One array over the elements [first, last]. */
static void keep_array(TapCall *draw, const Array *a, uint64_t first, uint64_t last, int slot) {
  uint64_t element = element_size(a), stride = a->stride ? (uint64_t)a->stride : element;
  uint64_t skip = first * stride, length = (last - first) * stride + element;
  uint8_t *read = NULL;
  const uint8_t *data = a->pointer + skip;
  if (a->buffer) { /* only for a display list, which keeps what the buffer held when it was made */
    if (!(read = malloc(length))) return;
    wendaReadBuffer_run((GLuint)a->buffer, (GLintptr)((uintptr_t)a->pointer + skip), (GLsizeiptr)length, read);
    data = read;
  }
  TapCall c = {.id = TAP_ID_wendaClientArray, .slots = tap_slots[TAP_ID_wendaClientArray]};
  c.s[ARRAY(array)] = a->array;
  c.s[ARRAY(index)] = a->index;
  c.s[ARRAY(size)] = (uint64_t)(int64_t)a->size;
  c.s[ARRAY(type)] = a->type;
  c.s[ARRAY(flags)] = (uint64_t)(a->normalized ? 1 : 0) | (uint64_t)(a->integer ? 2 : 0);
  c.s[ARRAY(stride)] = (uint64_t)a->stride;
  c.s[ARRAY(divisor)] = (uint64_t)a->divisor;
  c.s[ARRAY(skip)] = skip;
  c.s[ARRAY(length)] = length;
  c.begin = c.end = tap_stamp();
  if (draw->frame && !a->buffer) keep_in(&tap_frame, &c, a, data, length, slot);
  if (draw->list) {
    c.pointers = 0;
    tap_in(&c, 9, data, length);
    tap_kept_append(draw->list, &c);
  }
  free(read);
}

static void keep_arrays(TapCall *draw, Array *arrays, int count, uint64_t first, uint64_t last, int64_t instances, uint64_t base) {
  for (int i = 0; i < count; i++) {
    const Array *a = &arrays[i];
    if (!a->pointer && !a->buffer) continue;
    if (a->buffer && !draw->list) continue;
    if (a->divisor > 0) {
      uint64_t most = instances > 0 ? (uint64_t)(instances - 1) / (uint64_t)a->divisor : 0;
      keep_array(draw, a, base, base + most, i);
    } else {
      keep_array(draw, a, first, last, i);
    }
  }
}

/* The arrays that a draw needs kept; 0 for most draws of most programs. */
static int wanted(TapCall *draw, Array *arrays) {
  TapContext *context = tap_context();
  if (context->core || (!draw->frame && !draw->list)) return 0;
  int count = describe(arrays), needed = 0;
  for (int i = 0; i < count; i++) needed |= draw->list || (!arrays[i].buffer && arrays[i].pointer);
  if (draw->list) {
    TapCall off = {.id = TAP_ID_wendaClientArray, .slots = 11, .s = {EVERY_ARRAY_OFF}};
    tap_kept_append(draw->list, &off);
  }
  return needed ? count : 0;
}

void tap_arrays(TapCall *draw, int64_t first, int64_t count, int64_t instances, uint64_t base) {
  Array arrays[MOST_ARRAYS];
  if (first < 0 || count <= 0) return;
  int known = wanted(draw, arrays);
  if (known) keep_arrays(draw, arrays, known, (uint64_t)first, (uint64_t)(first + count - 1), instances, base);
}

void tap_arrays_multi(TapCall *draw, const GLint *first, const GLsizei *count, int64_t draws) {
  int64_t low = INT64_MAX, high = -1;
  for (int64_t i = 0; first && count && i < draws; i++) {
    if (count[i] <= 0) continue;
    if (first[i] < low) low = first[i];
    if ((int64_t)first[i] + count[i] > high) high = (int64_t)first[i] + count[i];
  }
  if (high > low) tap_arrays(draw, low, high - low, 1, 0);
}

static uint32_t index_at(const uint8_t *indices, GLenum type, int64_t i) {
  if (type == GL_UNSIGNED_BYTE) return indices[i];
  if (type == GL_UNSIGNED_SHORT) return ((const uint16_t *)(const void *)indices)[i];
  return ((const uint32_t *)(const void *)indices)[i];
}

/* The least and the greatest index of a draw; the least is above the greatest where there is none. */
static void index_range(GLenum type, const void *indices, int64_t count, int64_t *low, int64_t *high) {
  TapContext *context = tap_context();
  uint64_t unit = tap_type_size(type);
  uint8_t *read = NULL;
  *low = INT64_MAX;
  *high = -1;
  GLint buffer = tap_get(GL_ELEMENT_ARRAY_BUFFER_BINDING);
  if (buffer) {
    if (!(read = calloc((size_t)count, unit))) return;
    wendaReadBuffer_run((GLuint)buffer, (GLintptr)indices, (GLsizeiptr)((uint64_t)count * unit), read);
    indices = read;
  }
  int restarts = 0;
  uint32_t restart = unit == 1 ? 0xff : unit == 2 ? 0xffff : 0xffffffffu;
  if (tap_version() >= (context->es ? 30 : 43)) restarts = enabled(GL_PRIMITIVE_RESTART_FIXED_INDEX);
  if (!restarts && !context->es && tap_version() >= 31 && enabled(GL_PRIMITIVE_RESTART)) {
    restarts = 1;
    restart = (uint32_t)tap_get(GL_PRIMITIVE_RESTART_INDEX);
  }
  for (int64_t i = 0; indices && i < count; i++) {
    uint32_t index = index_at(indices, type, i);
    if (restarts && index == restart) continue;
    if (index < *low) *low = index;
    if (index > *high) *high = index;
  }
  free(read);
}

void tap_arrays_indexed(TapCall *draw, GLenum type, const void *indices, int64_t count, int64_t base_vertex, int64_t instances, uint64_t base) {
  Array arrays[MOST_ARRAYS];
  if (count <= 0) return;
  int known = wanted(draw, arrays);
  if (!known) return;
  int64_t low, high;
  index_range(type, indices, count, &low, &high);
  if (high >= 0 && low + base_vertex >= 0)
    keep_arrays(draw, arrays, known, (uint64_t)(low + base_vertex), (uint64_t)(high + base_vertex), instances, base);
}

#define DRAW(parameter) TAP_SLOT_glDrawElementsBaseVertex_##parameter

/* glMultiDrawElements with indices in client memory: recorded as the draws it stands for. */
void tap_arrays_split(TapCall *draw, GLenum mode, const GLsizei *count, GLenum type, const void *const *indices, int64_t draws, const GLint *base) {
  if (!count || !indices) return;
  int split = tap_get(GL_ELEMENT_ARRAY_BUFFER_BINDING) == 0;
  for (int64_t i = 0; i < draws; i++) {
    tap_arrays_indexed(draw, type, indices[i], count[i], base ? base[i] : 0, 1, 0);
    if (!split) continue;
    int id = base ? TAP_ID_glDrawElementsBaseVertex : TAP_ID_glDrawElements; /* the second has the slots of the first but one */
    TapCall one = {.id = id, .slots = tap_slots[id]};
    one.s[DRAW(mode)] = mode;
    one.s[DRAW(count)] = (uint64_t)(int64_t)count[i];
    one.s[DRAW(type)] = type;
    one.s[DRAW(basevertex)] = (uint64_t)(int64_t)(base ? base[i] : 0);
    one.begin = one.end = tap_stamp();
    if (draw->frame) {
      tap_in(&one, DRAW(indices), indices[i], tap_count(count[i]) * tap_type_size(type));
      tap_append(&tap_frame, &one);
    }
    if (draw->list) {
      one.pointers = 0;
      tap_in(&one, DRAW(indices), indices[i], tap_count(count[i]) * tap_type_size(type));
      tap_kept_append(draw->list, &one);
    }
  }
  if (split) draw->frame = draw->list_call = 0;
}

/* glArrayElement may stand between glBegin and glEnd, where nothing can be asked or set. */
void tap_array_element(TapCall *draw) { draw->flags |= TAP_FLAG_CLIENT_MEMORY; }

/* ---- run by the executor ---------------------------------------------------------------------------------- */

int tap_client_arrays; /* whether any run ever set one here */

/* Whether the elements [first, last] of an array lie in what the run brought along. Addresses wrap, as the pointer to an
 * element 0 that was not captured lies before the data. */
static void inside(TapRun *r, const Array *a, uint64_t first, uint64_t last) {
  uint64_t element = element_size(a), stride = a->stride ? (uint64_t)a->stride : element;
  uint64_t from = (uint64_t)((uintptr_t)a->pointer - (uintptr_t)r->arena) + first * stride, length = (last - first) * stride + element;
  if (a->stride < 0 || last < first || last >= 1ull << 40 || from > r->arena_size || length > r->arena_size - from) r->error = TAP_RUN_SHORT;
}

static void arrays_inside(TapRun *r, const Array *arrays, int count, uint64_t first, uint64_t last, int64_t instances, uint64_t base) {
  for (int i = 0; i < count; i++) {
    const Array *a = &arrays[i];
    if (a->buffer || !a->pointer) continue;
    if (a->divisor > 0) inside(r, a, base, base + (instances > 0 ? (uint64_t)(instances - 1) / (uint64_t)a->divisor : 0));
    else inside(r, a, first, last);
  }
}

void tap_run_arrays(TapRun *r, int64_t first, int64_t count, int64_t instances, uint64_t base) {
  Array arrays[MOST_ARRAYS];
  if (first < 0 || count <= 0 || instances <= 0) return;
  arrays_inside(r, arrays, describe(arrays), (uint64_t)first, (uint64_t)first + (uint64_t)count - 1, instances, base);
}

void tap_run_arrays_multi(TapRun *r, const GLint *first, const GLsizei *count, int64_t draws) {
  for (int64_t i = 0; first && count && i < draws && !r->error; i++) tap_run_arrays(r, first[i], count[i], 1, 0);
}

void tap_run_arrays_indexed(TapRun *r, GLenum type, const void *indices, int64_t count, int64_t base_vertex, int64_t instances, uint64_t base) {
  Array arrays[MOST_ARRAYS];
  if (count <= 0 || instances <= 0) return;
  int known = describe(arrays), needed = 0;
  for (int i = 0; i < known; i++) needed |= !arrays[i].buffer && arrays[i].pointer;
  if (!needed) return;
  int64_t low, high;
  index_range(type, indices, count, &low, &high);
  if (high < 0) return;
  if (low + base_vertex < 0) r->error = TAP_RUN_SHORT;
  else arrays_inside(r, arrays, known, (uint64_t)(low + base_vertex), (uint64_t)(high + base_vertex), instances, base);
}

void tap_run_arrays_split(TapRun *r, const GLsizei *count, GLenum type, const void *const *indices, int64_t draws, const GLint *base) {
  for (int64_t i = 0; count && indices && i < draws && !r->error; i++)
    tap_run_arrays_indexed(r, type, indices[i], count[i], base ? base[i] : 0, 1, 0);
}

static void every_array_off(void) {
  void (*off)(GLenum) = TAP_REAL(glDisableClientState, void (*)(GLenum));
  for (size_t i = 0; i + 1 < FIXED; i++) off(fixed[i].array);
  for (GLint unit = 0; unit < units(); unit++) {
    client_unit((GLuint)unit);
    off(GL_TEXTURE_COORD_ARRAY);
  }
  client_unit(0);
  for (GLuint i = 0; i < 16 && tap_version() >= 20; i++) TAP_REAL(glDisableVertexAttribArray, void (*)(GLuint))(i);
}

void wendaClientArray_run(GLenum array, GLuint index, GLint size, GLenum type, GLuint flags, GLsizei stride, GLuint divisor,
                          GLintptr skip, GLsizeiptr length, const void *data) {
  if (array == EVERY_ARRAY_OFF) {
    every_array_off();
    return;
  }
  tap_client_arrays = 1;
  const uint8_t *pointer = (const uint8_t *)((uintptr_t)data - (uintptr_t)skip);
  GLint before = tap_get(GL_ARRAY_BUFFER_BINDING);
  void (*bind)(GLenum, GLuint) = TAP_REAL(glBindBuffer, void (*)(GLenum, GLuint));
  if (before) bind(GL_ARRAY_BUFFER, 0);
  typedef void (*SizedPointer)(GLint, GLenum, GLsizei, const void *);
  typedef void (*TypedPointer)(GLenum, GLsizei, const void *);
  GLint active = -1;
  switch (array) {
    case GENERIC:
      if (flags & 2) TAP_REAL(glVertexAttribIPointer, void (*)(GLuint, GLint, GLenum, GLsizei, const void *))(index, size, type, stride, pointer);
      else TAP_REAL(glVertexAttribPointer, void (*)(GLuint, GLint, GLenum, GLboolean, GLsizei, const void *))(index, size, type, flags & 1, stride, pointer);
      if (divisor) TAP_REAL(glVertexAttribDivisor, void (*)(GLuint, GLuint))(index, divisor);
      TAP_REAL(glEnableVertexAttribArray, void (*)(GLuint))(index);
      break;
    case GL_VERTEX_ARRAY: TAP_REAL(glVertexPointer, SizedPointer)(size, type, stride, pointer); break;
    case GL_COLOR_ARRAY: TAP_REAL(glColorPointer, SizedPointer)(size, type, stride, pointer); break;
    case GL_SECONDARY_COLOR_ARRAY: TAP_REAL(glSecondaryColorPointer, SizedPointer)(size, type, stride, pointer); break;
    case GL_NORMAL_ARRAY: TAP_REAL(glNormalPointer, TypedPointer)(type, stride, pointer); break;
    case GL_FOG_COORD_ARRAY: TAP_REAL(glFogCoordPointer, TypedPointer)(type, stride, pointer); break;
    case GL_INDEX_ARRAY: TAP_REAL(glIndexPointer, TypedPointer)(type, stride, pointer); break;
    case GL_EDGE_FLAG_ARRAY: TAP_REAL(glEdgeFlagPointer, void (*)(GLsizei, const void *))(stride, pointer); break;
    case GL_TEXTURE_COORD_ARRAY:
      active = tap_get(GL_CLIENT_ACTIVE_TEXTURE);
      client_unit(index);
      TAP_REAL(glTexCoordPointer, SizedPointer)(size, type, stride, pointer);
      break;
    default: break;
  }
  if (array != GENERIC) TAP_REAL(glEnableClientState, void (*)(GLenum))(array);
  if (active >= 0) client_unit((GLuint)active - GL_TEXTURE0);
  if (before) bind(GL_ARRAY_BUFFER, (GLuint)before);
}
