/* What memory the program's objects were given: a table of those that live, and sums that the statistics of every frame carry.
 * Images count what their formats say: drivers add what nobody is told. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <execinfo.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include "tap.h"

#define LEVELS 16
#define STACK 12 /* a few of them are the tap's own */
#define PLACE 48
#define DEEPEST 16
#define FREE 0u
#define GONE 1u
#define LIVES 2u

/* What every call touches is apart from what only images and places need, so that little memory is gone over. */
typedef struct {
  uint32_t state, class_, owner, name;
  uint32_t format, width, height, depth;
  uint16_t samples, levels;
  uint32_t thread, born_frame;
  uint8_t placed; /* whether `rare` tells where it was made */
  uint64_t bytes, born_ns;
} Object;
typedef struct {
  uint64_t face_bytes[LEVELS];
  uint8_t faces[LEVELS]; /* which faces of a cube have the level; bit 0 elsewhere */
  char place[PLACE];
  void *stack[STACK];
} Rare;

static Object *table;
static Rare *rare; /* of the object at the same place of the table */
static uint64_t capacity, taken; /* those that live, and those that are gone and not yet swept */
TapMemory tap_memory;
static __thread char groups[DEEPEST][PLACE]; /* the debug groups that this thread is in */
static __thread int depth_of_groups;
static int stacks = -1;

static Rare *rare_of(const Object *o) { return &rare[o - table]; }

static uint64_t hash(uint32_t class_, uint32_t owner, uint32_t name) {
  uint64_t h = ((uint64_t)owner << 36 ^ (uint64_t)class_ << 32 ^ name) * 0x9e3779b97f4a7c15ull;
  return h ^ h >> 29;
}

static Object *look(uint32_t class_, uint32_t owner, uint32_t name) {
  if (!capacity) return NULL;
  for (uint64_t i = hash(class_, owner, name);; i++) {
    Object *o = &table[i & (capacity - 1)];
    if (o->state == FREE) return NULL;
    if (o->state == LIVES && o->class_ == class_ && o->owner == owner && o->name == name) return o;
  }
}

static int room(void) {
  if (capacity && taken * 4 < capacity * 3) return 1;
  uint64_t living = 0, wanted = 1024;
  for (uint64_t i = 0; i < capacity; i++) living += table[i].state == LIVES;
  while (wanted < living * 3) wanted *= 2;
  Object *larger = calloc(wanted, sizeof *larger);
  Rare *more = calloc(wanted, sizeof *more);
  if (!larger || !more) {
    free(larger);
    free(more);
    return 0;
  }
  for (uint64_t i = 0; i < capacity; i++) {
    if (table[i].state != LIVES) continue;
    uint64_t at = hash(table[i].class_, table[i].owner, table[i].name);
    while (larger[at & (wanted - 1)].state) at++;
    larger[at & (wanted - 1)] = table[i];
    more[at & (wanted - 1)] = rare[i];
  }
  free(table);
  free(rare);
  table = larger;
  rare = more;
  capacity = wanted;
  taken = living;
  return 1;
}

static uint64_t *sum_of(uint32_t class_) {
  return class_ == TAP_CLASS_TEXTURE ? &tap_memory.textures : class_ == TAP_CLASS_BUFFER ? &tap_memory.buffers : &tap_memory.renderbuffers;
}

static void set_bytes(Object *o, uint64_t bytes) {
  uint64_t *sum = sum_of(o->class_);
  __atomic_store_n(sum, *sum - o->bytes + bytes, __ATOMIC_RELAXED);
  o->bytes = bytes;
}

static void remember_place(Object *o) {
  int level = depth_of_groups < DEEPEST ? depth_of_groups : DEEPEST;
  if (level == 0 && !stacks) return;
  Rare *r = rare_of(o);
  if (level > 0) memcpy(r->place, groups[level - 1], PLACE);
  else memset(r->place, 0, PLACE);
  memset(r->stack, 0, sizeof r->stack);
  o->placed = 1;
  if (!stacks) return;
  backtrace(r->stack, STACK);
}

static Object *find(uint32_t class_, uint32_t owner, uint32_t name, int make) {
  Object *o = look(class_, owner, name);
  if (o || !make || !name || !room()) return o;
  uint64_t at = hash(class_, owner, name);
  while (table[at & (capacity - 1)].state == LIVES) at++;
  o = &table[at & (capacity - 1)];
  if (o->state == FREE) taken++;
  *o = (Object){.state = LIVES, .class_ = class_, .owner = owner, .name = name, .born_frame = (uint32_t)tap_frame_number()};
  if (class_ == TAP_CLASS_TEXTURE) memset(rare_of(o), 0, offsetof(Rare, place));
  __atomic_store_n(&tap_memory.objects, tap_memory.objects + 1, __ATOMIC_RELAXED);
  return o;
}

static int counted(int class_) { return class_ == TAP_CLASS_BUFFER || class_ == TAP_CLASS_TEXTURE || class_ == TAP_CLASS_RENDERBUFFER; }

void tap_memory_born(int class_, int64_t count, const GLuint *names) {
  if (!counted(class_)) return;
  uint32_t owner = tap_context()->group, thread = tap_thread();
  uint64_t now = tap_now();
  tap_lock(TAP_LOCK_MEMORY);
  if (stacks < 0) stacks = getenv("WENDASCOPE_STACKS") != NULL;
  for (int64_t i = 0; i < count; i++) {
    Object *o = find((uint32_t)class_, owner, names[i], 1);
    if (!o) continue;
    o->born_ns = now;
    o->thread = thread;
    remember_place(o);
  }
  tap_unlock(TAP_LOCK_MEMORY);
}

void tap_memory_gone(int class_, int64_t count, const GLuint *names) {
  if (!counted(class_)) return;
  uint32_t owner = tap_context()->group;
  tap_lock(TAP_LOCK_MEMORY);
  for (int64_t i = 0; i < count; i++) {
    Object *o = find((uint32_t)class_, owner, names[i], 0);
    if (!o) continue;
    set_bytes(o, 0);
    o->state = GONE;
    __atomic_store_n(&tap_memory.objects, tap_memory.objects - 1, __ATOMIC_RELAXED);
  }
  tap_unlock(TAP_LOCK_MEMORY);
}

void tap_buffer_stored(GLuint name, int64_t size) {
  if (!name || size < 0) return;
  uint32_t owner = tap_context()->group;
  tap_lock(TAP_LOCK_MEMORY);
  Object *o = find(TAP_CLASS_BUFFER, owner, name, 1);
  if (o) {
    if (!o->bytes) remember_place(o);
    set_bytes(o, (uint64_t)size);
  }
  tap_unlock(TAP_LOCK_MEMORY);
}

/* ---- images ---------------------------------------------------------------------------------------------- */

static uint64_t image_bytes(GLenum format, int64_t width, int64_t height, int64_t depth, int64_t samples) {
  uint64_t low = 0, high = TAP_TEXELS;
  while (low < high) {
    uint64_t middle = (low + high) / 2;
    if (tap_texels[middle].format < format) low = middle + 1;
    else high = middle;
  }
  if (low == TAP_TEXELS || tap_texels[low].format != format || width <= 0 || height <= 0 || depth <= 0) return 0;
  const TapTexel *t = &tap_texels[low];
  uint64_t blocks = (uint64_t)((width + t->width - 1) / t->width) * (uint64_t)((height + t->height - 1) / t->height) *
                    (uint64_t)((depth + t->depth - 1) / t->depth);
  return (blocks * t->bits + 7) / 8 * (uint64_t)(samples > 1 ? samples : 1);
}

GLenum tap_texture_binding(GLenum target) {
  switch (target) {
    case GL_TEXTURE_1D: return GL_TEXTURE_BINDING_1D;
    case GL_TEXTURE_2D: return GL_TEXTURE_BINDING_2D;
    case GL_TEXTURE_3D: return GL_TEXTURE_BINDING_3D;
    case GL_TEXTURE_RECTANGLE: return GL_TEXTURE_BINDING_RECTANGLE;
    case GL_TEXTURE_1D_ARRAY: return GL_TEXTURE_BINDING_1D_ARRAY;
    case GL_TEXTURE_2D_ARRAY: return GL_TEXTURE_BINDING_2D_ARRAY;
    case GL_TEXTURE_CUBE_MAP_ARRAY: return GL_TEXTURE_BINDING_CUBE_MAP_ARRAY;
    case GL_TEXTURE_2D_MULTISAMPLE: return GL_TEXTURE_BINDING_2D_MULTISAMPLE;
    case GL_TEXTURE_2D_MULTISAMPLE_ARRAY: return GL_TEXTURE_BINDING_2D_MULTISAMPLE_ARRAY;
    case GL_TEXTURE_CUBE_MAP: return GL_TEXTURE_BINDING_CUBE_MAP;
    default: return target - GL_TEXTURE_CUBE_MAP_POSITIVE_X < 6 ? GL_TEXTURE_BINDING_CUBE_MAP : 0; /* proxies have nothing */
  }
}

static GLenum target_of(GLuint texture) {
  GLint found = 0;
  void (*get)(GLuint, GLenum, GLint *) = TAP_REAL(glGetTextureParameteriv, void (*)(GLuint, GLenum, GLint *));
  if (get) get(texture, GL_TEXTURE_TARGET, &found);
  return (GLenum)found;
}

/* The name of a texture that a call works on: as it is given, else what is bound; 0 for none. A target of 0 is asked for. */
static GLuint texture_of(GLuint name, GLenum *target) {
  GLenum binding = name ? 0 : tap_texture_binding(*target);
  if (!name && binding) name = (GLuint)tap_get(binding);
  if (name && !*target) *target = target_of(name);
  return name;
}

static void sum_up(Object *o) {
  const Rare *r = rare_of(o);
  uint64_t bytes = 0;
  o->levels = 0;
  for (int k = 0; k < LEVELS; k++) {
    if (!r->faces[k]) continue;
    bytes += r->face_bytes[k] * (r->faces[k] == 1 ? 1 : (uint64_t)__builtin_popcount(r->faces[k]));
    o->levels++;
  }
  set_bytes(o, bytes);
}

static void set_level(Object *o, GLenum target, int level, int64_t width, int64_t height, int64_t depth) {
  if (level < 0 || level >= LEVELS) return;
  Rare *r = rare_of(o);
  GLenum face = target - GL_TEXTURE_CUBE_MAP_POSITIVE_X;
  r->face_bytes[level] = image_bytes(o->format, width, height, depth, o->samples);
  r->faces[level] = target == GL_TEXTURE_CUBE_MAP ? 63 : face < 6 ? (uint8_t)(r->faces[level] | 1u << face) : 1;
}

static int64_t half(int64_t size, int by) { return size >> by > 1 ? size >> by : 1; }

static void set_levels(Object *o, GLenum target, int first, int levels) {
  int rows = target != GL_TEXTURE_1D_ARRAY, slices = target == GL_TEXTURE_3D;
  for (int k = first; k < levels && k < LEVELS; k++)
    set_level(o, target, k, half(o->width, k), rows ? half(o->height, k) : o->height, slices ? half(o->depth, k) : o->depth);
}

/* `levels` 0: one level alone. A texture of name 0 is the one that is bound. */
void tap_image_stored(GLuint name, GLenum target, int level, int levels, GLenum format, int64_t width, int64_t height, int64_t depth,
                      int64_t samples) {
  name = texture_of(name, &target);
  if (!name) return;
  uint32_t owner = tap_context()->group;
  tap_lock(TAP_LOCK_MEMORY);
  Object *o = find(TAP_CLASS_TEXTURE, owner, name, 1);
  if (o) {
    if (!o->bytes) remember_place(o);
    if (levels || level == 0) {
      o->format = format;
      o->width = (uint32_t)width;
      o->height = (uint32_t)height;
      o->depth = (uint32_t)depth;
      o->samples = (uint16_t)samples;
    }
    if (levels) set_levels(o, target, 0, levels);
    else set_level(o, target, level, width, height, depth);
    sum_up(o);
  }
  tap_unlock(TAP_LOCK_MEMORY);
}

void tap_mipmaps_stored(GLuint name, GLenum target) {
  name = texture_of(name, &target);
  if (!name) return;
  uint32_t owner = tap_context()->group;
  tap_lock(TAP_LOCK_MEMORY);
  Object *o = find(TAP_CLASS_TEXTURE, owner, name, 0);
  if (o && rare_of(o)->faces[0] && !o->samples) {
    uint32_t largest = o->width > o->height ? o->width : o->height;
    int levels = 0;
    if (target == GL_TEXTURE_3D && o->depth > largest) largest = o->depth;
    for (; largest; largest >>= 1) levels++;
    set_levels(o, target, 1, levels);
    sum_up(o);
  }
  tap_unlock(TAP_LOCK_MEMORY);
}

void tap_renderbuffer_stored(GLuint name, GLenum format, int64_t width, int64_t height, int64_t samples) {
  if (!name) name = (GLuint)tap_get(GL_RENDERBUFFER_BINDING);
  if (!name) return;
  uint32_t owner = tap_context()->group;
  tap_lock(TAP_LOCK_MEMORY);
  Object *o = find(TAP_CLASS_RENDERBUFFER, owner, name, 1);
  if (o) {
    if (!o->bytes) remember_place(o);
    o->format = format;
    o->width = (uint32_t)width;
    o->height = (uint32_t)height;
    o->depth = 1;
    o->levels = 1;
    o->samples = (uint16_t)samples;
    set_bytes(o, image_bytes(format, width, height, 1, samples));
  }
  tap_unlock(TAP_LOCK_MEMORY);
}

/* ---- places ------------------------------------------------------------------------------------------------ */

void tap_group_begins(const char *text, int64_t length) {
  if (depth_of_groups < DEEPEST) {
    char *to = groups[depth_of_groups];
    size_t size = !text ? 0 : length < 0 ? strnlen(text, PLACE - 1) : (size_t)length < PLACE - 1 ? (size_t)length : PLACE - 1;
    if (size) memcpy(to, text, size);
    memset(to + size, 0, PLACE - size);
  }
  depth_of_groups++;
}

void tap_group_ends(void) {
  if (depth_of_groups > 0) depth_of_groups--;
}

/* ---- handing over ------------------------------------------------------------------------------------------ */

static size_t tell_stack(const Rare *r, char *text, size_t size) {
  size_t used = 0;
  Dl_info own;
  int own_known = dladdr((void *)tap_memory_write, &own) != 0;
  text[0] = 0;
  for (int i = 0; i < STACK && r->stack[i] && used + 2 < size; i++) {
    Dl_info info;
    int known = dladdr(r->stack[i], &info) && info.dli_fname;
    if (known && own_known && info.dli_fbase == own.dli_fbase) continue;
    const char *module = known ? strrchr(info.dli_fname, '/') ? strrchr(info.dli_fname, '/') + 1 : info.dli_fname : "?";
    unsigned long at = known ? (unsigned long)((char *)r->stack[i] - (char *)info.dli_fbase) : (unsigned long)r->stack[i];
    int wrote = known && info.dli_sname
                    ? snprintf(text + used, size - used, "%s (%s+0x%lx)\n", info.dli_sname, module, at)
                    : snprintf(text + used, size - used, "%s+0x%lx\n", module, at);
    if (wrote < 0 || (size_t)wrote >= size - used) break;
    used += (size_t)wrote;
  }
  return used;
}

/* Rows of sixteen numbers, each followed by its place and its stack as texts, padded to eight bytes together. */
int tap_memory_write(TapSink *sink) {
  int failed = 0;
  char stack[1024];
  tap_lock(TAP_LOCK_MEMORY);
  for (uint64_t i = 0; i < capacity && !failed; i++) {
    const Object *o = &table[i];
    if (o->state != LIVES) continue;
    const Rare *r = rare_of(o);
    uint64_t place = o->placed ? strnlen(r->place, PLACE) : 0, text = o->placed ? tell_stack(r, stack, sizeof stack) : 0;
    uint64_t row[16] = {o->class_, o->owner, o->name, o->format, o->width, o->height, o->depth, o->levels, o->samples, o->bytes,
                        o->born_ns, o->born_frame, o->thread, place, text, 0};
    uint64_t padded = (place + text + 7) / 8 * 8;
    uint8_t *at = tap_sink_take(sink, sizeof row + padded);
    if (!at) {
      failed = -1;
      break;
    }
    memcpy(at, row, sizeof row);
    memset(at + sizeof row, 0, padded);
    memcpy(at + sizeof row, r->place, place);
    memcpy(at + sizeof row + place, stack, text);
  }
  tap_unlock(TAP_LOCK_MEMORY);
  return failed;
}
