/* Recording: wrappers open a call, keep what it points to, and append it to the frame or the journal. */
#define _GNU_SOURCE
#include <errno.h>
#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>
#if defined(__x86_64__)
#include <cpuid.h>
#endif
#include "tap.h"

int tap_mode;
TapCounts tap_counts;
__thread uint64_t tap_waited_ns;
TapStream tap_frame, tap_journal;
TapContext *tap_recording_context;
pthread_mutex_t tap_locks[TAP_LOCKS] = {PTHREAD_MUTEX_INITIALIZER, PTHREAD_MUTEX_INITIALIZER, PTHREAD_MUTEX_INITIALIZER,
                                         PTHREAD_MUTEX_INITIALIZER, PTHREAD_MUTEX_INITIALIZER, PTHREAD_MUTEX_INITIALIZER};
__thread int tap_locks_held, tap_cancel_state;
static __thread uint32_t thread_id;
static __thread int depth; /* a real function that calls another wrapped one is recorded once */

/* ---- turns ------------------------------------------------------------------------------------------------ */

/* Long enough that a thread which draws is not interrupted between its calls, short enough that nobody waits noticeably. */
#define TURN_PAUSE_NS 500000u
static const void *turn_owner; /* the thread, as the address of what it has of its own; all under TAP_LOCK_TURN */
static int turn_busy, turn_kept;
static uint64_t turn_left;

void tap_turn_take(void) {
  tap_hold_cancel();
  for (;;) {
    tap_lock(TAP_LOCK_TURN);
    int mine = turn_owner == &thread_id;
    if (!turn_owner || mine || (!turn_busy && !turn_kept && tap_now() - turn_left > TURN_PAUSE_NS)) {
      turn_owner = &thread_id;
      turn_busy++;
      tap_unlock(TAP_LOCK_TURN);
      tap_allow_cancel();
      return;
    }
    tap_unlock(TAP_LOCK_TURN);
    struct timespec pause = {0, 50000};
    nanosleep(&pause, NULL);
  }
}

void tap_turn_leave(void) {
  tap_lock(TAP_LOCK_TURN);
  if (turn_owner == &thread_id && turn_busy > 0) turn_busy--;
  turn_left = tap_now();
  tap_unlock(TAP_LOCK_TURN);
}

/* Between glBegin and glEnd nobody else gets a turn. */
static void keep_turn(int keep) {
  tap_lock(TAP_LOCK_TURN);
  turn_kept = keep;
  tap_unlock(TAP_LOCK_TURN);
}

void tap_locks_after_fork(void) {
  for (int i = 0; i < TAP_LOCKS; i++) pthread_mutex_init(&tap_locks[i], NULL);
  turn_owner = NULL;
  turn_busy = turn_kept = 0;
}

/* ---- whose calls come next in the recording ------------------------------------------------------------------ */

static TapContext *entered; /* whose call was recorded last; of whoever has the turn */
static int recorded_alone;  /* no other context shared objects when recording began: calls then take no turns */
uint64_t tap_late_calls;    /* of contexts that came to it since, which are not recorded: nobody would wait for them */
static uintptr_t entered_drawable, first_drawable;

void tap_recording_starts(const TapDrawable *drawable) {
  entered = tap_context();
  recorded_alone = tap_alone();
  __atomic_store_n(&tap_late_calls, 0, __ATOMIC_RELAXED);
  __atomic_store_n(&tap_recording_context, entered, __ATOMIC_RELAXED);
  entered_drawable = first_drawable = drawable->drawable;
}

static void note_context(TapContext *context) {
  TapCall c = {.id = TAP_ID_wendaContext, .slots = tap_slots[TAP_ID_wendaContext]};
  c.s[TAP_SLOT_wendaContext_context] = context->id;
  c.begin = c.end = tap_stamp();
  tap_append(&tap_frame, &c);
}

/* 0 is the window that the recording began with. */
static void note_drawable(uintptr_t drawable) {
  TapDrawable now = tap_current_drawable();
  TapCall c = {.id = TAP_ID_wendaDrawable, .slots = tap_slots[TAP_ID_wendaDrawable]};
  c.s[TAP_SLOT_wendaDrawable_drawable] = drawable == first_drawable ? 0 : drawable;
  tap_drawable_size(&now, &c.s[TAP_SLOT_wendaDrawable_width], &c.s[TAP_SLOT_wendaDrawable_height]);
  c.begin = c.end = tap_stamp();
  tap_append(&tap_frame, &c);
}

/* The next call is of another context, or goes to another window. A context's state is asked for before its call runs. */
static void enter(TapContext *context) {
  if (context != entered) {
    entered = context;
    tap_meet();
    note_context(context);
  }
  if (context->drawable && context->drawable != entered_drawable) {
    entered_drawable = context->drawable;
    note_drawable(context->drawable);
  }
}

/* The frame ends with the context and window that it began with. */
void tap_recording_returns(void) {
  if (tap_context() != entered || entered_drawable != first_drawable) enter(tap_context());
}

uint64_t tap_now(void) {
  struct timespec t;
  clock_gettime(CLOCK_MONOTONIC, &t);
  return (uint64_t)t.tv_sec * 1000000000ull + (uint64_t)t.tv_nsec;
}

/* Stamps of recorded calls: the processor's counter where it is steady, since two clock calls would cost as much as a
 * cheap GL call does. `tap_settle_stamps` turns them into nanoseconds when the frame is over. */
static uint64_t first_stamp, first_ns, skipped_stamps;

#if defined(__x86_64__)
static int steady_counter(void) {
  static int known = -1;
  int steady = __atomic_load_n(&known, __ATOMIC_RELAXED);
  if (steady < 0) {
    unsigned a, b, c, d = 0;
    steady = __get_cpuid(0x80000007, &a, &b, &c, &d) && (d >> 8 & 1);
    __atomic_store_n(&known, steady, __ATOMIC_RELAXED);
  }
  return steady;
}
static uint64_t raw_stamp(void) { return steady_counter() ? __builtin_ia32_rdtsc() : tap_now(); }
#else
static uint64_t raw_stamp(void) { return tap_now(); }
#endif

/* Never less than the first of the recording. */
uint64_t tap_stamp(void) { return raw_stamp() - __atomic_load_n(&skipped_stamps, __ATOMIC_RELAXED); }

/* Recorded calls follow each other as if the time since a stamp had not been: the program was held meanwhile. */
void tap_skip_stamps(uint64_t since) { __atomic_fetch_add(&skipped_stamps, tap_stamp() - since, __ATOMIC_RELAXED); }

void tap_begin_stamps(void) {
  __atomic_store_n(&skipped_stamps, 0, __ATOMIC_RELAXED);
  first_stamp = raw_stamp();
  first_ns = tap_now();
}

void tap_settle_stamps(TapStream *stream) {
  uint64_t last_stamp = raw_stamp(), last_ns = tap_now();
  if (last_stamp <= first_stamp) return;
  double ns = (double)(last_ns - first_ns) / (double)(last_stamp - first_stamp);
  uint64_t *words = (uint64_t *)stream->calls.base, *end = words + stream->calls.used / 8;
  for (; words && words < end; words += words[0] >> 32)
    for (int i = 2; i < 4; i++)
      if (words[i] >= first_stamp) words[i] = first_ns + (uint64_t)((double)(words[i] - first_stamp) * ns);
}

uint32_t tap_thread(void) {
  if (!thread_id) thread_id = (uint32_t)syscall(SYS_gettid);
  return thread_id;
}

int tap_sink_open(TapSink *sink, uint64_t capacity) {
  memset(sink, 0, sizeof *sink);
  sink->base = malloc(capacity);
  sink->capacity = sink->base ? capacity : 0;
  return sink->base ? 0 : -1;
}

void tap_sink_close(TapSink *sink) {
  free(sink->base);
  memset(sink, 0, sizeof *sink);
}

int tap_sinks_file(const TapSink *const *sinks, int count, const char *name) {
  struct rlimit largest;
  uint64_t all = 0;
  for (int i = 0; i < count; i++) all += sinks[i]->used;
  if (getrlimit(RLIMIT_FSIZE, &largest) == 0 && largest.rlim_cur != RLIM_INFINITY && all > largest.rlim_cur) {
    errno = EFBIG; /* trying would raise a signal */
    return -1;
  }
  int fd = memfd_create(name, MFD_CLOEXEC);
  for (int i = 0; i < count && fd >= 0; i++) {
    for (uint64_t at = 0; at < sinks[i]->used;) {
      uint64_t left = sinks[i]->used - at;
      ssize_t written = write(fd, sinks[i]->base + at, left < 1 << 30 ? left : 1 << 30);
      if (written < 0 && errno == EINTR) continue;
      if (written <= 0) {
        int reason = errno;
        close(fd);
        errno = reason;
        return -1;
      }
      at += (uint64_t)written;
    }
  }
  return fd;
}

uint8_t *tap_sink_take(TapSink *sink, uint64_t bytes) {
  if (!sink->base) return NULL;
  if (sink->used + bytes > sink->capacity) {
    uint64_t capacity = sink->capacity * 2;
    while (sink->used + bytes > capacity) capacity *= 2;
    void *moved = realloc(sink->base, capacity);
    if (!moved) return NULL;
    sink->base = moved;
    sink->capacity = capacity;
  }
  uint8_t *at = sink->base + sink->used;
  sink->used += bytes;
  return at;
}

int tap_stream_open(TapStream *stream, uint64_t calls, uint64_t arena) {
  stream->failed = 0;
  if (tap_sink_open(&stream->calls, calls) != 0) return -1;
  if (tap_sink_open(&stream->arena, arena) != 0) {
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
  c->frame = c->image = c->whole = c->bare = 0;
  c->list = NULL;
  c->nested = depth > 0;
  int mode = tap_mode_now();
  c->turn = c->waits = 0;
  if ((mode & (TAP_RECORDING | TAP_HOLDING)) && !c->nested) {
    TapContext *context = tap_context(), *recorded = __atomic_load_n(&tap_recording_context, __ATOMIC_RELAXED);
    /* contexts that share nothing with the recorded one cannot change its picture */
    int alone = mode & TAP_RECORDING ? recorded_alone : tap_alone();
    if (context->group == recorded->group && alone && context != recorded) {
      __atomic_add_fetch(&tap_late_calls, 1, __ATOMIC_RELAXED);
    } else if (context->group == recorded->group) {
      if (!alone) {
        tap_turn_take();
        c->turn = 1;
        if (id == TAP_ID_glBegin || id == TAP_ID_glEnd) keep_turn(id == TAP_ID_glBegin);
        mode = tap_mode_now(); /* the frame may have begun or ended meanwhile */
      }
      c->frame = (mode & TAP_RECORDING) != 0;
      if (c->frame) enter(context);
    }
  }
  if ((mode & TAP_LISTING) && !c->nested) c->list = tap_open_list();
  c->list_call = c->list != NULL;
  c->journal = (uint8_t)(journal && !c->nested);
  c->active = c->frame || c->journal || c->list;
  depth++;
}

/* The call may wait for what another thread has yet to do. */
void tap_call_waits(TapCall *c) {
  c->waits = c->turn;
  if (c->turn) tap_turn_leave();
}

void tap_call_start(TapCall *c) {
  if (c->active) c->begin = tap_stamp();
}

void tap_call_stop(TapCall *c) {
  if (c->active) c->end = tap_stamp();
  if (!c->waits) return;
  tap_turn_take();
  if (c->frame && tap_recording_group()) enter(tap_context());
}

static void add_pointer(TapCall *c, int slot, int mode, const void *pointer, const int *lengths, uint64_t length) {
  TapPointer *p = &c->p[c->pointers++];
  p->slot = (uint8_t)slot;
  p->mode = (uint8_t)mode;
  p->pointer = pointer;
  p->lengths = lengths;
  p->length = length;
}

int tap_recording_here(void) {
  return (tap_mode_now() & TAP_RECORDING) && tap_context() == __atomic_load_n(&tap_recording_context, __ATOMIC_RELAXED);
}

int tap_recording_group(void) {
  TapContext *context = tap_context(), *recorded = __atomic_load_n(&tap_recording_context, __ATOMIC_RELAXED);
  return (tap_mode_now() & TAP_RECORDING) && context->group == recorded->group && (context == recorded || !recorded_alone);
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

int tap_buffer_bound(int binding) {
  static const GLenum names[TAP_BINDINGS] = {GL_PIXEL_UNPACK_BUFFER_BINDING, GL_PIXEL_PACK_BUFFER_BINDING,
                                             GL_ELEMENT_ARRAY_BUFFER_BINDING, GL_DRAW_INDIRECT_BUFFER_BINDING,
                                             GL_QUERY_BUFFER_BINDING, GL_ARRAY_BUFFER_BINDING};
  static const int since[TAP_BINDINGS] = {21, 21, 15, 40, 44, 15}, since_es[TAP_BINDINGS] = {30, 30, 20, 31, 99, 11};
  if (tap_version() < (tap_context()->es ? since_es : since)[binding]) return 0;
  return tap_get(names[binding]) != 0;
}

void tap_buffer_or_in(TapCall *c, int slot, const void *pointer, int binding, uint64_t length) {
  if (tap_buffer_bound(binding)) raw(c, slot, pointer);
  else tap_in(c, slot, pointer, length);
}

void tap_buffer_or_out(TapCall *c, int slot, const void *pointer, int binding) {
  if (tap_buffer_bound(binding)) raw(c, slot, pointer);
  else tap_out(c, slot, pointer);
}

void tap_array_pointer(TapCall *c, int slot, const void *pointer) {
  raw(c, slot, pointer);
  /* client memory: each draw that reads it keeps what it reads */
  if (pointer && tap_get(GL_ARRAY_BUFFER_BINDING) == 0) c->s[slot + 1] = 0;
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

void tap_append(TapStream *stream, TapCall *c) {
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

/* Until something is remembered there is no journal. */
static int open_journal(void) {
  if (!tap_journal.calls.base && !tap_journal.failed) tap_journal.failed = tap_stream_open(&tap_journal, 1 << 16, 1 << 16);
  return tap_journal.failed;
}

int tap_journal_file(const TapSink *const *more, int count, uint64_t *calls, uint64_t *arena) {
  const TapSink *all[4] = {&tap_journal.calls, &tap_journal.arena};
  for (int i = 0; i < count && i < 2; i++) all[2 + i] = more[i];
  int fd = -1;
  tap_lock(TAP_LOCK_JOURNAL);
  errno = ENOMEM;
  if (open_journal() == 0) fd = tap_sinks_file(all, 2 + count, "wenda-journal");
  *calls = tap_journal.calls.used;
  *arena = tap_journal.arena.used;
  tap_unlock(TAP_LOCK_JOURNAL);
  return fd;
}

void tap_call_close(TapCall *c) {
  depth--;
  /* asked again: the recording may have ended since the call began */
  if (c->frame && tap_recording_group()) tap_append(&tap_frame, c);
  if (c->list_call) tap_kept_append(c->list, c);
  if (c->image) {
    for (int i = 0; c->bare && i < c->pointers; i++) c->s[c->p[i].slot] = c->s[c->p[i].slot + 1] = 0;
    if (c->bare) c->pointers = 0;
    tap_kept_image(c);
  }
  if (c->journal) {
    tap_lock(TAP_LOCK_JOURNAL);
    open_journal();
    uint64_t thread_and_group = tap_context()->group;
    tap_append(&tap_journal, c);
    if (!tap_journal.failed) {
      uint64_t *header = (uint64_t *)(tap_journal.calls.base + tap_journal.calls.used) - TAP_HEADER_WORDS - c->slots;
      header[1] |= thread_and_group << 32; /* in the journal the error word holds the share group */
    }
    tap_unlock(TAP_LOCK_JOURNAL);
  }
  if (c->turn) tap_turn_leave();
}
