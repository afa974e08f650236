/* What is kept from the moment it is called because GL cannot give it back, and replaced when it is made anew:
 * display lists, and on OpenGL ES what texture images were made of. One small stream of calls for each. */
#include <stdlib.h>
#include <string.h>
#include "tap.h"

#define BUCKETS 1024u

struct TapKept {
  struct TapKept *next;
  uint32_t kind, group, name, key; /* key of an image: target << 8 | level */
  TapStream stream;
};

static TapKept *buckets[BUCKETS];
static __thread TapKept *open_list;
static int lists_open; /* of all threads */

static TapKept **bucket(uint32_t kind, uint32_t name) { return &buckets[(name * 2 + kind) % BUCKETS]; }

static void drop(TapKept *kept) {
  tap_stream_close(&kept->stream);
  free(kept);
}

/* Takes out every entry of a name, or only that with the key. */
static void take_out(uint32_t kind, uint32_t group, uint32_t name, int with_key, uint32_t key) {
  for (TapKept **at = bucket(kind, name); *at;) {
    TapKept *k = *at;
    if (k->kind == kind && k->group == group && k->name == name && (!with_key || k->key == key)) {
      *at = k->next;
      drop(k);
    } else {
      at = &k->next;
    }
  }
}

static TapKept *make(uint32_t kind, uint32_t name, uint32_t key) {
  TapKept *k = calloc(1, sizeof *k);
  if (!k) return NULL;
  if (tap_stream_open(&k->stream, 512, 64) != 0) {
    free(k);
    return NULL;
  }
  k->kind = kind;
  k->group = tap_context()->group;
  k->name = name;
  k->key = key;
  return k;
}

static void insert(TapKept *k) {
  TapKept **at = bucket(k->kind, k->name);
  k->next = *at;
  *at = k;
}

void tap_kept_remove(int kind, int64_t count, const GLuint *names) {
  uint32_t group = tap_context()->group;
  tap_lock(TAP_LOCK_KEPT);
  for (int64_t i = 0; names && i < count; i++) take_out((uint32_t)kind, group, names[i], 0, 0);
  tap_unlock(TAP_LOCK_KEPT);
}

/* To a list that this thread is making: nobody else has it yet. */
void tap_kept_append(TapKept *list, TapCall *call) { tap_append(&list->stream, call); }

/* ---- display lists ------------------------------------------------------------------------------------ */

TapKept *tap_open_list(void) { return open_list; }

void tap_list_begin(GLuint list, GLenum mode) {
  if (open_list || !list) return;
  TapKept *made = make(TAP_KEPT_LIST, list, 0);
  if (!made) return;
  /* a list keeps pixels as the unpack state of its making lays them out; an open buffer would be read now */
  static const GLenum names[] = {GL_UNPACK_SWAP_BYTES, GL_UNPACK_LSB_FIRST, GL_UNPACK_ROW_LENGTH, GL_UNPACK_SKIP_ROWS,
                                 GL_UNPACK_SKIP_PIXELS, GL_UNPACK_ALIGNMENT};
  for (size_t i = 0; i < sizeof names / sizeof *names; i++) {
    TapCall store = {.id = TAP_ID_glPixelStorei, .slots = 2, .s = {names[i], (uint64_t)(int64_t)tap_get(names[i])}};
    tap_append(&made->stream, &store);
  }
  TapCall begin = {.id = TAP_ID_glNewList, .slots = 2, .s = {list, GL_COMPILE}};
  tap_append(&made->stream, &begin);
  open_list = made;
  __atomic_add_fetch(&lists_open, 1, __ATOMIC_RELAXED);
  tap_mode_set(TAP_LISTING);
}

void tap_list_end(void) {
  TapKept *made = open_list;
  if (!made) return;
  open_list = NULL;
  TapCall end = {.id = TAP_ID_glEndList};
  tap_append(&made->stream, &end);
  if (__atomic_sub_fetch(&lists_open, 1, __ATOMIC_RELAXED) == 0) tap_mode_clear(TAP_LISTING);
  tap_lock(TAP_LOCK_KEPT);
  take_out(TAP_KEPT_LIST, made->group, made->name, 0, 0);
  insert(made);
  tap_unlock(TAP_LOCK_KEPT);
}

void tap_lists_delete(GLuint first, GLsizei range) {
  for (GLsizei i = 0; i < range; i++) {
    GLuint name = first + (GLuint)i;
    tap_kept_remove(TAP_KEPT_LIST, 1, &name);
  }
}

/* ---- texture images of OpenGL ES ------------------------------------------------------------------------ */

/* What a call says of an image that ES will not tell later. Pixels are kept only where they cannot be read back:
 * compressed ones, and on ES 2 formats that no framebuffer takes. `whole`: the call defines the image anew. */
void tap_keep_image(TapCall *c, GLenum target, GLint level, GLenum format, int whole) {
  TapContext *context = tap_context();
  if (!context->es || c->nested) return;
  int compressed = format == 0;
  int readable = context->major >= 3 || format == GL_RGBA || format == GL_RGB;
  if (!whole && !compressed && readable) return;
  if (tap_version() >= 31 && !compressed) return; /* it tells sizes, and shaders read the rest */
  GLint name = tap_get(tap_texture_binding(target));
  if (!name) return;
  c->image = 1;
  c->image_name = (uint32_t)name;
  c->image_key = target << 8 | (uint32_t)(level & 0xff);
  c->whole = (uint8_t)whole;
  c->bare = !compressed && readable;
  c->active = 1;
}

/* The call is over: what it defined is kept. The entry is looked for only now, as another thread may have deleted the texture. */
void tap_kept_image(TapCall *c) {
  uint32_t group = tap_context()->group;
  TapKept *kept = NULL;
  tap_lock(TAP_LOCK_KEPT);
  if (c->whole) take_out(TAP_KEPT_IMAGE, group, c->image_name, 1, c->image_key);
  else
    for (kept = *bucket(TAP_KEPT_IMAGE, c->image_name); kept; kept = kept->next)
      if (kept->kind == TAP_KEPT_IMAGE && kept->group == group && kept->name == c->image_name && kept->key == c->image_key) break;
  if (!kept && (kept = make(TAP_KEPT_IMAGE, c->image_name, c->image_key))) insert(kept);
  if (kept) tap_append(&kept->stream, c);
  tap_unlock(TAP_LOCK_KEPT);
}

/* ---- handing over ------------------------------------------------------------------------------------------ */

/* Everything kept for a share group: rows of (kind, name, key, bytes of calls, bytes of arena), each followed by them. */
int tap_kept_write(TapSink *sink, uint32_t group) {
  int failed = 0;
  tap_lock(TAP_LOCK_KEPT);
  for (uint32_t b = 0; b < BUCKETS && !failed; b++)
    for (TapKept *k = buckets[b]; k && !failed; k = k->next) {
      if (k->group != group || k->stream.failed) continue;
      const TapSink *calls = &k->stream.calls, *arena = &k->stream.arena;
      uint8_t *at = tap_sink_take(sink, 40 + calls->used + arena->used);
      if (!at) {
        failed = -1;
        break;
      }
      uint64_t row[5] = {k->kind, k->name, k->key, calls->used, arena->used};
      memcpy(at, row, sizeof row);
      memcpy(at + 40, calls->base, calls->used);
      memcpy(at + 40 + calls->used, arena->base, arena->used);
    }
  tap_unlock(TAP_LOCK_KEPT);
  return failed;
}
