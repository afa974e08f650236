/* The conversation with Wendascope: frame statistics, pausing the target at the end of a frame, serving calls. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <time.h>
#include <unistd.h>
#include "tap.h"

#define MESSAGE_FDS 1
typedef struct {
  uint32_t type, fds;
  uint64_t v[TAP_MESSAGE_VALUES];
} Message;

extern TapContext *tap_recording_context;

/* All of the conversation belongs to whoever holds TAP_LOCK_CONVERSATION: one thread at a time speaks, is held, or hangs up.
 * A thread that comes to the end of its frame while another one speaks goes on without a word. */
static int control = -1;
static dev_t control_device; /* which file that is, and whose: */
static ino_t control_inode;  /* the program may close every file it did not open, and open its own in their place */
static pid_t control_process;
static unsigned owed; /* MEMORY was asked for so often, and not sent yet */
static int connected_once;         /* read without the lock */
static int wanted_frame_end = TAP_FRAME_END_SWAP; /* read without the lock */
static uint64_t frame;             /* boundaries passed so far; counted without the lock */
static uint64_t armed_frame;       /* take this frame or a later one; 0: none */
static uint64_t armed_slower;      /* ... the first whose predecessor took longer than this; 0: any */
static uint64_t last_frame_end;
static TapCounts last_counts;

/* What the thread that ends the frames has used: waiting leaves the processor by itself, being preempted does not. */
typedef struct {
  uint32_t thread;
  uint64_t cpu_ns, waited_ns, voluntary, involuntary;
} Usage;
static Usage last_usage, recording_usage;
static uint64_t recording_began;
static uint64_t last_frame_calls;
static TapDrawable recorded_drawable;
extern uint64_t tap_late_calls;
#define MOST_MEETINGS 256 /* of a frame: a program that goes to and fro between contexts is not asked every time */
static int meetings;
static uint64_t met_ns, met_cpu_ns; /* spent in them; on the thread that ends the frame */
static uint8_t *shared;
static uint64_t shared_size;
static __thread int serving;
static __thread GLenum kept_errors[8]; /* the target's own, while ours are cleared */
static __thread int kept_error_count;

static Usage usage_now(void) {
  Usage u = {.thread = tap_thread(), .waited_ns = tap_waited_ns};
  struct timespec t;
  struct rusage r;
  if (clock_gettime(CLOCK_THREAD_CPUTIME_ID, &t) == 0) u.cpu_ns = (uint64_t)t.tv_sec * 1000000000ull + (uint64_t)t.tv_nsec;
  if (getrusage(RUSAGE_THREAD, &r) == 0) {
    u.voluntary = (uint64_t)r.ru_nvcsw;
    u.involuntary = (uint64_t)r.ru_nivcsw;
  }
  return u;
}

/* (cpu ns, voluntary switches << 32 | involuntary ones) since an earlier moment; zeros when another thread goes on. */
static void used_since(const Usage *before, const Usage *now, uint64_t *cpu_ns, uint64_t *switches) {
  *cpu_ns = *switches = 0;
  if (before->thread != now->thread) return;
  *cpu_ns = now->cpu_ns - before->cpu_ns;
  *switches = (now->voluntary - before->voluntary) << 32 | ((now->involuntary - before->involuntary) & 0xffffffffu);
}

static void forget(void) {
  control = -1;
  armed_frame = 0;
  owed = 0;
  if (shared) munmap(shared, shared_size);
  shared = NULL;
}

/* Whether the conversation's file is still that, and this process the one that opened it. Where it is not, the file is
 * left alone, and a new conversation begun at the next end of a frame. */
static int ours(void) {
  struct stat found;
  if (control < 0) return 0;
  if (getpid() == control_process && fstat(control, &found) == 0 && found.st_dev == control_device && found.st_ino == control_inode) return 1;
  forget();
  __atomic_store_n(&connected_once, 0, __ATOMIC_RELAXED);
  return 0;
}

static void disconnect(void) {
  if (ours()) close(control);
  forget();
}

enum { SENT, DROPPED, LOST };
enum { IN_TIME_MS = 2000 }; /* so long a message that must arrive may find the socket full; then nobody listens */

/* Never waits for one that may be dropped. `fds` are closed, whatever becomes of it. */
static int send_message(const Message *message, const int *fds, int count, int droppable) {
  struct iovec part = {(void *)message, sizeof *message};
  union { char bytes[CMSG_SPACE(MESSAGE_FDS * sizeof(int))]; struct cmsghdr align; } ancillary;
  struct msghdr header = {.msg_iov = &part, .msg_iovlen = 1};
  if (count) {
    memset(&ancillary, 0, sizeof ancillary);
    header.msg_control = ancillary.bytes;
    header.msg_controllen = CMSG_SPACE(count * sizeof(int));
    struct cmsghdr *c = CMSG_FIRSTHDR(&header);
    c->cmsg_level = SOL_SOCKET;
    c->cmsg_type = SCM_RIGHTS;
    c->cmsg_len = CMSG_LEN(count * sizeof(int));
    memcpy(CMSG_DATA(c), fds, count * sizeof(int));
  }
  uint64_t until = tap_now() + IN_TIME_MS * 1000000ull;
  ssize_t sent = -1;
  int full = 0;
  while (ours()) {
    do sent = sendmsg(control, &header, MSG_NOSIGNAL | MSG_DONTWAIT);
    while (sent < 0 && errno == EINTR);
    full = sent < 0 && (errno == EAGAIN || errno == EWOULDBLOCK);
    if (!full || droppable || tap_now() > until) break;
    struct pollfd room = {.fd = control, .events = POLLOUT};
    poll(&room, 1, 100);
  }
  for (int i = 0; i < count; i++) close(fds[i]);
  if (sent == (ssize_t)sizeof *message) return SENT;
  if (full && droppable) return DROPPED;
  disconnect();
  return LOST;
}

/* Receives one message; returns 1, 0 when none is waiting, -1 when Wendascope is gone. At most one file comes along; more are closed. */
static int receive_message(Message *message, int *fd, int flags) {
  *fd = -1;
  if (!ours()) return -1;
  struct iovec part = {message, sizeof *message};
  union { char bytes[CMSG_SPACE(16 * sizeof(int))]; struct cmsghdr align; } ancillary;
  struct msghdr header = {.msg_iov = &part, .msg_iovlen = 1, .msg_control = ancillary.bytes, .msg_controllen = sizeof ancillary};
  ssize_t got;
  do got = recvmsg(control, &header, MSG_CMSG_CLOEXEC | flags);
  while (got < 0 && errno == EINTR);
  if (got < 0 && (errno == EAGAIN || errno == EWOULDBLOCK)) return 0;
  for (struct cmsghdr *c = got >= 0 ? CMSG_FIRSTHDR(&header) : NULL; c; c = CMSG_NXTHDR(&header, c)) {
    if (c->cmsg_level != SOL_SOCKET || c->cmsg_type != SCM_RIGHTS) continue;
    for (size_t at = CMSG_LEN(0); at + sizeof(int) <= c->cmsg_len; at += sizeof(int)) {
      int file;
      memcpy(&file, (char *)c + at, sizeof file);
      if (*fd < 0) *fd = file;
      else close(file);
    }
  }
  if (got == (ssize_t)sizeof *message) return 1;
  if (*fd >= 0) close(*fd);
  *fd = -1;
  disconnect();
  return -1;
}

enum { OF_FRAME, OF_OBJECTS, OF_ALL };

/* Says why something cannot be handed over. */
static void tell_failure(int what, int reason) {
  Message message = {.type = TAP_MESSAGE_FAILED, .v = {__atomic_load_n(&frame, __ATOMIC_RELAXED), (uint64_t)reason, (uint64_t)what}};
  send_message(&message, NULL, 0, 0);
}

static uint64_t patience_ms;

/* Nothing is heard for so long that Wendascope must be stopped, or worse: the target does not stay held for it. */
static int left_alone(void) {
  struct pollfd heard = {.fd = control, .events = POLLIN};
  uint64_t until = tap_now() + patience_ms * 1000000;
  for (;;) {
    if (control < 0) return 0; /* gone, as whoever receives next finds out */
    uint64_t now = tap_now();
    if (now >= until) return 1;
    int got = poll(&heard, 1, (int)((until - now) / 1000000) + 1);
    if (got > 0 || (got < 0 && errno != EINTR)) return 0;
  }
}

static void arm(const Message *message) {
  if (message->v[3] != TAP_PROTOCOL) { /* never guess what another version means */
    fprintf(stderr, "Wendascope: the tap of this program speaks protocol %d, the Wendascope that watches it %d: it runs on unwatched\n",
            TAP_PROTOCOL, (int)message->v[3]);
    disconnect();
    return;
  }
  armed_frame = message->v[0];
  armed_slower = message->v[1];
  patience_ms = message->v[4];
  __atomic_store_n(&wanted_frame_end, (int)message->v[2], __ATOMIC_RELAXED);
  if (message->v[2] == TAP_FRAME_END_SWAP) tap_mode_clear(TAP_MARKERS);
  else tap_mode_set(TAP_MARKERS);
}

static void after_fork(void) {
  /* The parent keeps the conversation; the child starts one of its own if it draws. */
  tap_locks_after_fork();
  if (control >= 0) close(control);
  forget();
  __atomic_store_n(&connected_once, 0, __ATOMIC_RELAXED);
  tap_mode_clear(~TAP_LISTING);
  __atomic_store_n(&frame, 0, __ATOMIC_RELAXED);
  serving = 0;
}

static struct sockaddr_un address;
static int silent; /* nothing may be said any more */

/* Before the program can clear its environment. */
__attribute__((constructor)) static void note_address(void) {
  const char *path = getenv("WENDASCOPE_SOCKET");
  if (!path || strlen(path) >= sizeof address.sun_path) return;
  address.sun_family = AF_UNIX;
  strcpy(address.sun_path, path);
}

static void connect_now(void) {
  if (!address.sun_path[0] || silent) return;
  int fd = socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0);
  if (fd < 0) return;
  if (connect(fd, (struct sockaddr *)&address, sizeof address) != 0) {
    close(fd);
    return;
  }
  struct stat found;
  if (fstat(fd, &found) != 0) {
    close(fd);
    return;
  }
  control = fd;
  control_device = found.st_dev;
  control_inode = found.st_ino;
  control_process = getpid();
  static int fork_watched;
  if (!fork_watched) fork_watched = pthread_atfork(NULL, NULL, after_fork) == 0;
  Message hello = {.type = TAP_MESSAGE_HELLO, .v = {TAP_PROTOCOL, (uint64_t)getpid(), TAP_COMMANDS}};
  if (send_message(&hello, NULL, 0, 0) != SENT) return;
  struct pollfd waiting = {.fd = control, .events = POLLIN};
  Message answer;
  int unused = -1;
  if (poll(&waiting, 1, 2000) == 1 && receive_message(&answer, &unused, MSG_DONTWAIT) == 1 && answer.type == TAP_MESSAGE_ARM) arm(&answer);
  if (unused >= 0) close(unused);
  last_frame_end = tap_now();
}

void tap_fall_silent(void) {
  tap_lock(TAP_LOCK_CONVERSATION);
  silent = 1;
  tell_failure(OF_ALL, 0);
  disconnect();
  tap_mode_clear(~(TAP_LISTING | TAP_HOLDING));
  tap_unlock(TAP_LOCK_CONVERSATION);
}

uint64_t tap_frame_number(void) { return __atomic_load_n(&frame, __ATOMIC_RELAXED); }

void tap_connect(void) {
  if (__atomic_load_n(&connected_once, __ATOMIC_RELAXED)) return;
  tap_lock(TAP_LOCK_CONVERSATION);
  if (!__atomic_exchange_n(&connected_once, 1, __ATOMIC_RELAXED)) connect_now();
  tap_unlock(TAP_LOCK_CONVERSATION);
}

GLenum tap_take_error(void) {
  if (!kept_error_count) return 0;
  GLenum first = kept_errors[0];
  memmove(kept_errors, kept_errors + 1, sizeof kept_errors - sizeof *kept_errors);
  kept_error_count--;
  return first;
}

static void drain_errors(int keep) {
  GLenum (*get)(void) = TAP_REAL(glGetError, GLenum (*)(void));
  for (int i = 0; get && i < 16; i++) {
    GLenum error = get();
    if (!error) return;
    if (keep && kept_error_count < 8) kept_errors[kept_error_count++] = error;
  }
}

/* Only a file that is as long as is said, and can never become shorter: touching what is not there ends a process. */
static int map_shared(int fd, uint64_t size) {
  struct stat found;
  if (shared) munmap(shared, shared_size);
  shared = NULL;
  int sound = size && fstat(fd, &found) == 0 && (uint64_t)found.st_size >= size && (fcntl(fd, F_GET_SEALS) & F_SEAL_SHRINK) > 0;
  void *mapped = sound ? mmap(NULL, size, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0) : MAP_FAILED;
  close(fd);
  if (mapped == MAP_FAILED) return -1;
  shared = mapped;
  shared_size = size;
  return 0;
}

static void run_batch(const Message *request) {
  const uint64_t *v = request->v; /* calls at, words, arena at, arena bytes, out at, out bytes, timed */
  Message reply = {.type = TAP_MESSAGE_RAN};
  int32_t error = shared ? TAP_RUN_MALFORMED : TAP_RUN_MEMORY;
  int inside = shared && v[0] % 8 == 0 && v[0] <= shared_size && v[1] <= (shared_size - v[0]) / 8 && v[2] <= shared_size &&
               v[3] <= shared_size - v[2] && v[4] <= shared_size && v[5] <= shared_size - v[4];
  if (inside)
    reply.v[0] = (uint64_t)tap_execute((uint64_t *)(shared + v[0]), v[1], shared + v[2], v[3], shared + v[4], v[5], (int)v[6], NULL, &error);
  reply.v[1] = (uint64_t)error;
  drain_errors(0);
  send_message(&reply, NULL, 0, 0);
}

static pthread_key_t recording_thread;
static int thread_watched;

/* A thread ends within the frame that it draws: nobody will end the frame. */
static void thread_ends(void *unused) {
  (void)unused;
  if (tap_recording_here()) tap_context_ends(tap_context());
}

__attribute__((constructor)) static void watch_threads(void) { thread_watched = pthread_key_create(&recording_thread, thread_ends) == 0; }

static void begin_recording(const TapDrawable *drawable) {
  tap_stream_close(&tap_frame);
  /* room for a frame like the last one, in memory that is there already: growing would slow the recorded frame */
  uint64_t room = (1 << 20) + last_frame_calls * 80;
  if (room > 256 << 20) room = 256 << 20;
  if (tap_stream_open(&tap_frame, room, room) != 0) tap_frame.failed = 1;
  else memset(tap_frame.calls.base, 0, room), memset(tap_frame.arena.base, 0, room);
  recorded_drawable = *drawable;
  meetings = 0;
  met_ns = met_cpu_ns = 0;
  tap_recording_starts(drawable);
  recording_usage = usage_now();
  recording_began = tap_now();
  tap_begin_stamps();
  if (thread_watched) pthread_setspecific(recording_thread, &recorded_drawable); /* not null, so that its end is told */
  tap_mode_set(TAP_RECORDING);
}

/* The objects that live, with their memory. Returns whether it was told, or why it cannot be. */
static int tell_objects(uint64_t number) {
  TapSink rows = {0};
  const TapSink *const all[] = {&rows};
  Message message = {.type = TAP_MESSAGE_MEMORY, .fds = 1, .v = {number, tap_now()}};
  int sent = LOST, fd = -1;
  errno = ENOMEM;
  if (tap_sink_open(&rows, 1 << 16) == 0 && tap_memory_write(&rows) == 0 && (fd = tap_sinks_file(all, 1, "wenda-memory")) >= 0) {
    message.v[2] = rows.used;
    sent = send_message(&message, &fd, 1, 1);
  } else {
    tell_failure(OF_OBJECTS, errno);
  }
  tap_sink_close(&rows);
  return sent != DROPPED;
}

/* Of many that are asked for at once, a few at a time, so that frames go on; of those for which there is no room, later. */
static void pay_objects(uint64_t number) {
  for (int i = 0; i < 4 && owed && tell_objects(number) && owed; i++) owed--;
}

/* Serves calls until told to record or to go on. Whatever happens, the target goes on. The conversation is this thread's meanwhile. */
static void serve(const TapDrawable *drawable) {
  serving = 1;
  for (;;) {
    Message message;
    int fd;
    if (left_alone()) {
      disconnect();
      break;
    }
    if (receive_message(&message, &fd, 0) != 1) break; /* STAY only says that somebody is there */
    if (fd >= 0) map_shared(fd, message.v[7]); /* where that fails, what is to run in it is refused */
    if (message.type == TAP_MESSAGE_RUN) run_batch(&message);
    if (message.type == TAP_MESSAGE_ARM) arm(&message);
    if (message.type == TAP_MESSAGE_OBJECTS) {
      owed++;
      pay_objects(tap_frame_number());
    }
    if (message.type == TAP_MESSAGE_RECORD) {
      begin_recording(drawable);
      break;
    }
    if (message.type == TAP_MESSAGE_RESUME) break;
  }
  serving = 0;
}

static void describe(Message *message, const TapDrawable *drawable) {
  TapContext *context = tap_context();
  message->v[0] = __atomic_load_n(&frame, __ATOMIC_RELAXED);
  message->v[1] = context->id;
  message->v[2] = context->group;
  tap_drawable_size(drawable, &message->v[3], &message->v[4]);
  message->v[5] = (uint64_t)drawable->platform;
  message->v[6] = tap_thread();
}

/* Other threads whose contexts share objects with this one's make no call until `let_others`. */
static int hold_others(void) {
  if (tap_alone()) return 0;
  __atomic_store_n(&tap_recording_context, tap_context(), __ATOMIC_RELAXED);
  tap_turn_take();
  tap_mode_set(TAP_HOLDING);
  return 1;
}

static void let_others(int held) {
  if (!held) return;
  tap_mode_clear(TAP_HOLDING);
  tap_turn_leave();
}

static void pause_here(const TapDrawable *drawable) {
  int held = hold_others();
  Message message = {.type = TAP_MESSAGE_PAUSED, .fds = 1};
  TapSink names = {0}, kept = {0};
  const TapSink *const more[] = {&names, &kept};
  int fd = -1;
  armed_frame = 0;
  errno = ENOMEM;
  if (tap_sink_open(&names, 1 << 16) == 0 && tap_sink_open(&kept, 1 << 16) == 0) {
    tap_names_write(&names);
    tap_contexts_write(&names);
    tap_kept_write(&kept, tap_context()->group);
    fd = tap_journal_file(more, 2, &message.v[7], &message.v[8]);
  }
  if (fd >= 0) {
    drain_errors(1);
    describe(&message, drawable);
    message.v[9] = names.used;
    message.v[10] = kept.used;
    if (send_message(&message, &fd, 1, 0) == SENT) serve(drawable);
  } else {
    tell_failure(OF_FRAME, errno);
  }
  tap_sink_close(&names);
  tap_sink_close(&kept);
  let_others(held);
}

/* Before the recorded call of another context than that of the call before: Wendascope reads its state if it does not know it. */
void tap_meet(void) {
  if (meetings++ >= MOST_MEETINGS) return;
  Message message = {.type = TAP_MESSAGE_CONTEXT, .fds = 1};
  TapSink names = {0};
  TapDrawable drawable = tap_current_drawable();
  uint64_t stamp = tap_stamp(), began = tap_now();
  Usage before = usage_now();
  tap_lock(TAP_LOCK_CONVERSATION);
  if (control >= 0 && tap_sink_open(&names, 1 << 16) == 0) {
    tap_names_write(&names);
    const TapSink *const all[] = {&names};
    int fd = tap_sinks_file(all, 1, "wenda-names");
    drain_errors(1);
    describe(&message, &drawable);
    message.v[9] = names.used;
    if (fd < 0) meetings = MOST_MEETINGS + 1;
    else if (send_message(&message, &fd, 1, 0) == SENT) serve(&drawable);
  }
  tap_sink_close(&names);
  tap_unlock(TAP_LOCK_CONVERSATION);
  tap_skip_stamps(stamp);
  met_ns += tap_now() - began;
  if (before.thread == recording_usage.thread) met_cpu_ns += usage_now().cpu_ns - before.cpu_ns;
}

static void finish_recording(const TapDrawable *drawable) {
  uint64_t ended = tap_now();
  Usage usage = usage_now();
  tap_compare_mappings();
  tap_mode_clear(TAP_RECORDING);
  tap_settle_stamps(&tap_frame);
  Message message = {.type = TAP_MESSAGE_RECORDED, .fds = 1};
  drain_errors(1);
  describe(&message, drawable);
  message.v[7] = tap_frame.calls.used;
  message.v[8] = tap_frame.arena.used;
  message.v[10] = meetings > MOST_MEETINGS ? TAP_RECORDED_MANY_CHANGES : 0;
  if (__atomic_load_n(&tap_late_calls, __ATOMIC_RELAXED)) message.v[10] |= TAP_RECORDED_LATE_CONTEXT;
  message.v[11] = recording_began;
  message.v[12] = ended - met_ns;
  used_since(&recording_usage, &usage, &message.v[13], &message.v[14]);
  if (message.v[13] > met_cpu_ns) message.v[13] -= met_cpu_ns;
  const TapSink *const all[] = {&tap_frame.calls, &tap_frame.arena};
  errno = ENOMEM;
  int fd = tap_frame.failed ? -1 : tap_sinks_file(all, 2, "wenda-frame"), reason = errno;
  tap_stream_close(&tap_frame);
  if (fd >= 0) send_message(&message, &fd, 1, 0);
  else tell_failure(OF_FRAME, reason);
  serve(drawable);
  if (!(tap_mode_now() & TAP_RECORDING)) tap_unwatch_all(); /* the frame after may be recorded as well */
}

/* A context is gone before the frame that is recorded in it ended. */
void tap_context_ends(const TapContext *context) {
  if (!(tap_mode_now() & TAP_RECORDING) || context != __atomic_load_n(&tap_recording_context, __ATOMIC_RELAXED)) return;
  int held = hold_others();
  tap_lock(TAP_LOCK_CONVERSATION);
  tap_mode_clear(TAP_RECORDING);
  tap_unwatch_all();
  tap_stream_close(&tap_frame);
  tell_failure(OF_FRAME, ECANCELED);
  tap_unlock(TAP_LOCK_CONVERSATION);
  let_others(held);
}

static int wanted(int kind) { return !serving && kind == __atomic_load_n(&wanted_frame_end, __ATOMIC_RELAXED); }

void tap_frame_ends(int kind, const TapDrawable *drawable) {
  if (!wanted(kind) || !tap_recording_here() || recorded_drawable.drawable != drawable->drawable) return;
  int held = hold_others();
  tap_recording_returns();
  tap_lock(TAP_LOCK_CONVERSATION); /* others hold it for a word only while a frame is recorded */
  finish_recording(drawable);
  tap_unlock(TAP_LOCK_CONVERSATION);
  let_others(held);
}

/* Wendascope went away. What was being recorded is let go of by the thread that recorded it, which may be adding to it now. */
static void abandon(void) {
  if (tap_recording_here()) {
    int held = hold_others();
    tap_mode_clear(~(TAP_LISTING | TAP_HOLDING));
    tap_unwatch_all();
    tap_stream_close(&tap_frame);
    let_others(held);
  } else {
    tap_mode_clear(TAP_MARKERS);
  }
}

static void tell_frame(uint64_t number, const TapDrawable *drawable, uint64_t swap_begin, uint64_t swap_end) {
  uint64_t since = last_frame_end ? swap_begin - last_frame_end : 0;
  Usage usage = usage_now();
  TapCounts counts = {__atomic_load_n(&tap_counts.calls, __ATOMIC_RELAXED), __atomic_load_n(&tap_counts.draws, __ATOMIC_RELAXED),
                      __atomic_load_n(&tap_counts.vertices, __ATOMIC_RELAXED)};
  Message beat = {.type = TAP_MESSAGE_STATISTICS,
                  .v = {number, since, swap_end - swap_begin, counts.calls - last_counts.calls, counts.draws - last_counts.draws,
                        counts.vertices - last_counts.vertices, tap_context()->id, drawable->drawable}};
  used_since(&last_usage, &usage, &beat.v[8], &beat.v[9]);
  if (last_usage.thread == usage.thread) beat.v[10] = usage.waited_ns - last_usage.waited_ns;
  beat.v[11] = __atomic_load_n(&tap_memory.textures, __ATOMIC_RELAXED);
  beat.v[12] = __atomic_load_n(&tap_memory.renderbuffers, __ATOMIC_RELAXED);
  beat.v[13] = __atomic_load_n(&tap_memory.buffers, __ATOMIC_RELAXED);
  beat.v[14] = __atomic_load_n(&tap_memory.objects, __ATOMIC_RELAXED);
  last_frame_calls = counts.calls - last_counts.calls;
  last_counts = counts;
  last_frame_end = swap_end;
  if (send_message(&beat, NULL, 0, 1) == LOST) return;
  Message message;
  int fd = -1;
  for (int heard = 0; heard < 64 && receive_message(&message, &fd, MSG_DONTWAIT) == 1; heard++) {
    if (fd >= 0) close(fd);
    if (message.type == TAP_MESSAGE_ARM) arm(&message);
    if (message.type == TAP_MESSAGE_OBJECTS) owed++;
  }
  pay_objects(number);
  int slow_enough = !armed_slower || since + (swap_end - swap_begin) > armed_slower;
  if (control >= 0 && armed_frame && number >= armed_frame && slow_enough && !(tap_mode_now() & TAP_RECORDING)) pause_here(drawable);
  last_frame_end = tap_now(); /* being held is not the target's time */
  last_usage = usage_now();
}

void tap_frame_ended(int kind, const TapDrawable *drawable, uint64_t swap_begin, uint64_t swap_end) {
  if (!wanted(kind)) return;
  tap_connect();
  uint64_t number = __atomic_add_fetch(&frame, 1, __ATOMIC_RELAXED);
  if (!tap_try_lock(TAP_LOCK_CONVERSATION)) return;
  if (control >= 0) tell_frame(number, drawable, swap_begin, swap_end);
  if (control < 0 && (tap_mode_now() & (TAP_RECORDING | TAP_MARKERS))) abandon();
  tap_unlock(TAP_LOCK_CONVERSATION);
}

void tap_at_marker(int kind) {
  if (!(tap_mode_now() & TAP_MARKERS) || !wanted(kind)) return;
  TapDrawable drawable = tap_current_drawable();
  uint64_t now = tap_now();
  tap_frame_ends(kind, &drawable);
  tap_frame_ended(kind, &drawable, now, now);
}
