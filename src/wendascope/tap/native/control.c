/* The conversation with Wendascope: heartbeats, holding the target at a frame boundary, serving calls. */
#define _GNU_SOURCE
#include <errno.h>
#include <poll.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>
#include "tap.h"

enum {
  /* tap to Wendascope */
  MESSAGE_HELLO = 1, MESSAGE_HEARTBEAT, MESSAGE_PAUSED, MESSAGE_RAN, MESSAGE_RECORDED,
  /* Wendascope to tap */
  MESSAGE_ARM = 16, MESSAGE_RUN, MESSAGE_RECORD, MESSAGE_RESUME
};

#define MESSAGE_VALUES 15
#define MESSAGE_FDS 4
typedef struct {
  uint32_t type, fds;
  uint64_t v[MESSAGE_VALUES];
} Message;

extern TapContext *tap_recording_context;
extern uint64_t tap_elsewhere; /* calls of other contexts of the share group during the recording */

static int control = -1;
static int connected_once;
static int wanted_boundary = TAP_BOUNDARY_SWAP;
static uint64_t frame;             /* boundaries passed so far */
static uint64_t armed_frame;       /* take this frame or a later one; 0: none */
static uint64_t armed_slower;      /* ... the first whose predecessor took longer than this; 0: any */
static uint64_t last_boundary_end;
static TapCounts last_counts;
static uint64_t last_frame_calls;
static TapDrawable recorded_drawable;
static uint8_t *shared;
static uint64_t shared_size;
static __thread int serving;
static GLenum kept_errors[8]; /* the target's own, while ours are cleared */
static int kept_error_count;

static void disconnect(void) {
  if (control >= 0) close(control);
  control = -1;
  armed_frame = 0;
  if (shared) munmap(shared, shared_size);
  shared = NULL;
}

static int send_message(const Message *message, const int *fds, int count, int flags) {
  if (control < 0) return -1;
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
  ssize_t sent;
  do sent = sendmsg(control, &header, MSG_NOSIGNAL | flags);
  while (sent < 0 && errno == EINTR);
  if (sent == (ssize_t)sizeof *message) return 0;
  if (sent < 0 && (errno == EAGAIN || errno == EWOULDBLOCK)) return 0; /* a heartbeat may be dropped */
  disconnect();
  return -1;
}

/* Receives one message; returns 1, 0 when none is waiting, -1 when Wendascope is gone. */
static int receive_message(Message *message, int *fd, int flags) {
  if (control < 0) return -1;
  struct iovec part = {message, sizeof *message};
  union { char bytes[CMSG_SPACE(MESSAGE_FDS * sizeof(int))]; struct cmsghdr align; } ancillary;
  struct msghdr header = {.msg_iov = &part, .msg_iovlen = 1, .msg_control = ancillary.bytes, .msg_controllen = sizeof ancillary};
  ssize_t got;
  do got = recvmsg(control, &header, MSG_CMSG_CLOEXEC | flags);
  while (got < 0 && errno == EINTR);
  if (got < 0 && (errno == EAGAIN || errno == EWOULDBLOCK)) return 0;
  if (got != (ssize_t)sizeof *message) {
    disconnect();
    return -1;
  }
  *fd = -1;
  struct cmsghdr *c = CMSG_FIRSTHDR(&header);
  if (c && c->cmsg_level == SOL_SOCKET && c->cmsg_type == SCM_RIGHTS) memcpy(fd, CMSG_DATA(c), sizeof *fd);
  return 1;
}

static void arm(const Message *message) {
  armed_frame = message->v[0];
  armed_slower = message->v[1];
  wanted_boundary = (int)message->v[2];
  if (wanted_boundary == TAP_BOUNDARY_SWAP) tap_mode &= ~TAP_MARKERS;
  else tap_mode |= TAP_MARKERS;
}

static void after_fork(void) {
  /* The parent keeps the conversation; the child starts one of its own if it draws. */
  if (control >= 0) close(control);
  control = -1;
  connected_once = 0;
  armed_frame = 0;
  tap_mode &= TAP_LISTING;
  frame = 0;
}

void tap_connect(void) {
  if (connected_once) return;
  connected_once = 1;
  const char *path = getenv("WENDASCOPE_SOCKET");
  struct sockaddr_un address = {.sun_family = AF_UNIX};
  if (!path || strlen(path) >= sizeof address.sun_path) return;
  strcpy(address.sun_path, path);
  int fd = socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0);
  if (fd < 0) return;
  if (connect(fd, (struct sockaddr *)&address, sizeof address) != 0) {
    close(fd);
    return;
  }
  control = fd;
  static int fork_watched;
  if (!fork_watched) fork_watched = pthread_atfork(NULL, NULL, after_fork) == 0;
  Message hello = {.type = MESSAGE_HELLO, .v = {TAP_PROTOCOL, (uint64_t)getpid(), TAP_COMMANDS}};
  if (send_message(&hello, NULL, 0, 0) != 0) return;
  struct pollfd waiting = {.fd = control, .events = POLLIN};
  Message answer;
  int unused;
  if (poll(&waiting, 1, 2000) == 1 && receive_message(&answer, &unused, MSG_DONTWAIT) == 1 && answer.type == MESSAGE_ARM)
    arm(&answer);
  last_boundary_end = tap_now();
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

static int map_shared(int fd, uint64_t size) {
  if (shared) munmap(shared, shared_size);
  shared = mmap(NULL, size, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
  close(fd);
  if (shared == MAP_FAILED) {
    shared = NULL;
    return -1;
  }
  shared_size = size;
  return 0;
}

static void run_batch(const Message *request) {
  const uint64_t *v = request->v; /* calls at, words, arena at, arena bytes, out at, out bytes, timed */
  Message reply = {.type = MESSAGE_RAN};
  int32_t error = TAP_RUN_MALFORMED;
  int inside = shared && v[0] <= shared_size && v[1] <= (shared_size - v[0]) / 8 && v[2] <= shared_size &&
               v[3] <= shared_size - v[2] && v[4] <= shared_size && v[5] <= shared_size - v[4];
  if (inside)
    reply.v[0] = (uint64_t)tap_execute((uint64_t *)(shared + v[0]), v[1], shared + v[2], v[3], shared + v[4], v[5], (int)v[6], NULL, &error);
  reply.v[1] = (uint64_t)error;
  drain_errors(0);
  send_message(&reply, NULL, 0, 0);
}

static void begin_recording(const TapDrawable *drawable) {
  tap_stream_close(&tap_frame);
  /* room for a frame like the last one, in memory that is there already: growing would slow the recorded frame */
  uint64_t room = (1 << 20) + last_frame_calls * 80;
  if (tap_stream_open(&tap_frame, "wenda-frame", room < 256 << 20 ? room : 256 << 20) != 0) return;
  recorded_drawable = *drawable;
  tap_recording_context = tap_context();
  tap_elsewhere = 0;
  tap_begin_stamps();
  tap_mode |= TAP_RECORDING;
}

/* Serves calls until told to record or to go on. Whatever happens, the target goes on. */
static void serve(const TapDrawable *drawable) {
  serving = 1;
  for (;;) {
    Message message;
    int fd;
    if (receive_message(&message, &fd, 0) != 1) break;
    if (fd >= 0 && map_shared(fd, message.v[7]) != 0) {
      disconnect();
      break;
    }
    if (message.type == MESSAGE_RUN) run_batch(&message);
    if (message.type == MESSAGE_ARM) arm(&message);
    if (message.type == MESSAGE_RECORD) {
      begin_recording(drawable);
      break;
    }
    if (message.type == MESSAGE_RESUME) break;
  }
  serving = 0;
}

static void describe(Message *message, const TapDrawable *drawable) {
  TapContext *context = tap_context();
  message->v[0] = frame;
  message->v[1] = context->id;
  message->v[2] = context->group;
  tap_drawable_size(drawable, &message->v[3], &message->v[4]);
  message->v[5] = (uint64_t)drawable->platform;
  message->v[6] = tap_thread();
}

static void pause_here(const TapDrawable *drawable) {
  Message message = {.type = MESSAGE_PAUSED, .fds = 4};
  TapSink names, kept;
  if (tap_sink_open(&names, "wenda-names", 1 << 16) != 0) return;
  if (tap_sink_open(&kept, "wenda-kept", 1 << 16) != 0) {
    tap_sink_close(&names);
    return;
  }
  tap_names_write(&names);
  tap_contexts_write(&names);
  tap_kept_write(&kept, tap_context()->group);
  if (!tap_journal.calls.base && tap_stream_open(&tap_journal, "wenda-journal", 1 << 16) != 0) return;
  drain_errors(1);
  describe(&message, drawable);
  message.v[7] = tap_journal.calls.used;
  message.v[8] = tap_journal.arena.used;
  message.v[9] = names.used;
  message.v[10] = kept.used;
  int fds[4] = {tap_journal.calls.fd, tap_journal.arena.fd, names.fd, kept.fd};
  armed_frame = 0;
  int sent = send_message(&message, fds, 4, 0);
  tap_sink_close(&names);
  tap_sink_close(&kept);
  if (sent == 0) serve(drawable);
}

static void finish_recording(const TapDrawable *drawable) {
  tap_compare_mappings();
  tap_mode &= ~TAP_RECORDING;
  tap_settle_stamps(&tap_frame);
  tap_unwatch_all();
  Message message = {.type = MESSAGE_RECORDED, .fds = 2};
  drain_errors(1);
  describe(&message, drawable);
  message.v[7] = tap_frame.calls.used;
  message.v[8] = tap_frame.arena.used;
  message.v[9] = (uint64_t)tap_frame.failed;
  message.v[10] = tap_elsewhere;
  int fds[2] = {tap_frame.calls.fd, tap_frame.arena.fd};
  int sent = send_message(&message, fds, 2, 0);
  tap_stream_close(&tap_frame);
  if (sent == 0) serve(drawable);
}

void tap_boundary_before(int kind, const TapDrawable *drawable) {
  if (serving || kind != wanted_boundary) return;
  if (tap_recording_here() && recorded_drawable.drawable == drawable->drawable) finish_recording(drawable);
}

/* The recorded context goes on to another window, or comes back. */
void tap_drawable_changed(const TapDrawable *drawable) {
  if (!tap_recording_here()) return;
  TapCall c = {.id = TAP_ID_wendaDrawable, .slots = 3};
  c.s[0] = drawable->drawable == recorded_drawable.drawable ? 0 : drawable->drawable;
  tap_drawable_size(drawable, &c.s[1], &c.s[2]);
  c.begin = c.end = tap_stamp();
  tap_append(&tap_frame, &c);
}

void tap_boundary_after(int kind, const TapDrawable *drawable, uint64_t swap_begin, uint64_t swap_end) {
  if (serving || kind != wanted_boundary) return;
  tap_connect();
  frame++;
  if (control < 0) {
    if (tap_mode & (TAP_RECORDING | TAP_MARKERS)) { /* Wendascope went away during the frame */
      tap_mode &= TAP_LISTING;
      tap_unwatch_all();
      tap_stream_close(&tap_frame);
    }
    return;
  }
  uint64_t since = last_boundary_end ? swap_begin - last_boundary_end : 0;
  Message beat = {.type = MESSAGE_HEARTBEAT,
                  .v = {frame, since, swap_end - swap_begin, tap_counts.calls - last_counts.calls,
                        tap_counts.draws - last_counts.draws, tap_counts.vertices - last_counts.vertices,
                        tap_context()->id, drawable->drawable}};
  last_frame_calls = tap_counts.calls - last_counts.calls;
  last_counts = tap_counts;
  last_boundary_end = swap_end;
  if (send_message(&beat, NULL, 0, MSG_DONTWAIT) != 0) return;
  Message message;
  int fd = -1;
  while (receive_message(&message, &fd, MSG_DONTWAIT) == 1) {
    if (fd >= 0) close(fd);
    if (message.type == MESSAGE_ARM) arm(&message);
  }
  int slow_enough = !armed_slower || since + (swap_end - swap_begin) > armed_slower;
  if (armed_frame && frame >= armed_frame && slow_enough && !(tap_mode & TAP_RECORDING)) pause_here(drawable);
  last_boundary_end = tap_now(); /* being held is not the target's time */
}

void tap_at_marker(int kind) {
  if (!(tap_mode & TAP_MARKERS) || kind != wanted_boundary || serving) return;
  TapDrawable drawable = tap_current_drawable();
  uint64_t now = tap_now();
  tap_boundary_before(kind, &drawable);
  tap_boundary_after(kind, &drawable, now, now);
}
