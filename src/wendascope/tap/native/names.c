/* The names of live objects, per share group or per context: one bitmap for each class and owner. */
#include <stdlib.h>
#include <string.h>
#include "tap.h"

#define LARGEST_NAME (1u << 26)

typedef struct NameSet {
  struct NameSet *next;
  int class_;
  uint32_t owner, capacity; /* capacity in names */
  uint8_t *bits;
} NameSet;

static NameSet *sets;

static NameSet *find(int class_, uint32_t owner) {
  for (NameSet *set = sets; set; set = set->next)
    if (set->class_ == class_ && set->owner == owner) return set;
  NameSet *set = calloc(1, sizeof *set);
  if (!set) return NULL;
  set->class_ = class_;
  set->owner = owner;
  set->next = sets;
  sets = set;
  return set;
}

static uint32_t owner_of(int class_) {
  TapContext *context = tap_context();
  return class_ < TAP_CLASS_SHARED_END ? context->group : context->id;
}

void tap_name_add(int class_, int64_t count, const GLuint *names) {
  if (!names) return;
  tap_lock(TAP_LOCK_NAMES);
  NameSet *set = find(class_, owner_of(class_));
  for (int64_t i = 0; set && i < count; i++) {
    if (names[i] == 0 || names[i] >= LARGEST_NAME) continue;
    if (names[i] >= set->capacity) {
      uint32_t capacity = (names[i] * 2 + 1024) & ~7u;
      uint8_t *bits = realloc(set->bits, capacity / 8);
      if (!bits) break;
      memset(bits + set->capacity / 8, 0, (capacity - set->capacity) / 8);
      set->bits = bits;
      set->capacity = capacity;
    }
    set->bits[names[i] / 8] |= (uint8_t)(1 << names[i] % 8);
  }
  tap_unlock(TAP_LOCK_NAMES);
  tap_memory_born(class_, count, names);
}

void tap_name_remove(int class_, int64_t count, const GLuint *names) {
  if (!names) return;
  tap_lock(TAP_LOCK_NAMES);
  NameSet *set = find(class_, owner_of(class_));
  for (int64_t i = 0; set && i < count; i++)
    if (names[i] < set->capacity) set->bits[names[i] / 8] &= (uint8_t) ~(1 << names[i] % 8);
  tap_unlock(TAP_LOCK_NAMES);
  tap_memory_gone(class_, count, names);
}

int tap_names_write(TapSink *sink) {
  tap_lock(TAP_LOCK_NAMES);
  int failed = 0;
  for (NameSet *set = sets; set; set = set->next) {
    for (uint32_t name = 0; name < set->capacity; name++) {
      if (!set->bits[name / 8]) {
        name |= 7;
        continue;
      }
      if (!(set->bits[name / 8] >> name % 8 & 1)) continue;
      uint32_t *row = (uint32_t *)tap_sink_take(sink, 12);
      if (!row) {
        failed = -1;
        break;
      }
      row[0] = (uint32_t)set->class_;
      row[1] = set->owner;
      row[2] = name;
    }
  }
  tap_unlock(TAP_LOCK_NAMES);
  return failed;
}
