/* The watch over a replay process, in a thread that neither Python nor a driver can hold up: it ends the process when the
 * one it works for is gone, and when a single call takes too long. */
#define _GNU_SOURCE
#include <poll.h>
#include <pthread.h>
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>
#include "tap.h"

#define GUARD_STALLED 76 /* exit code: a call took too long, the last line written says which */
#define LOOK_EVERY_MS 200
enum { COMPILE_SECONDS = 12, CALL_SECONDS = 18 }; /* a wait is for all that was issued before: no frame that can be measured takes as long */

uint64_t tap_guard_call; /* changes with every call that is run; 0 while none is */
uint32_t tap_guard_id;
static char doing[128];
static int hang_up = -1;
static unsigned patience; /* seconds for any call; 0: as the command needs */

void tap_guard_doing(const char *what) {
  strncpy(doing, what, sizeof doing - 1);
}

static unsigned seconds_for(const char *name) {
  if (patience) return patience;
  if (strstr(name, "Compile") || strstr(name, "Link") || strstr(name, "ShaderProgram") || strstr(name, "Specialize")) return COMPILE_SECONDS;
  return CALL_SECONDS;
}

static void *watch(void *unused) {
  (void)unused;
  uint64_t seen = 0, since = tap_now();
  for (;;) {
    struct pollfd client = {.fd = hang_up, .events = POLLRDHUP};
    poll(&client, 1, LOOK_EVERY_MS);
    if (client.revents & (POLLRDHUP | POLLHUP | POLLERR | POLLNVAL)) _exit(0);
    uint64_t call = __atomic_load_n(&tap_guard_call, __ATOMIC_RELAXED);
    if (!call || call != seen) {
      seen = call;
      since = tap_now();
      continue;
    }
    uint32_t id = __atomic_load_n(&tap_guard_id, __ATOMIC_RELAXED);
    const char *name = id < TAP_COMMANDS ? tap_names[id] : "a call";
    unsigned seconds = seconds_for(name);
    if (tap_now() - since < seconds * 1000000000ull) continue;
    char line[256];
    int length = snprintf(line, sizeof line, "\n%s%s%s took longer than %u s\n", name, doing[0] ? " of " : "", doing, seconds);
    if (length > 0 && write(STDERR_FILENO, line, (size_t)length) < 0) _exit(GUARD_STALLED);
    _exit(GUARD_STALLED);
  }
}

int tap_guard(int fd, unsigned seconds) {
  pthread_t thread;
  sigset_t all, before;
  hang_up = fd;
  patience = seconds;
  sigfillset(&all);
  pthread_sigmask(SIG_SETMASK, &all, &before); /* signals are for the threads of the process itself */
  int failed = pthread_create(&thread, NULL, watch, NULL);
  pthread_sigmask(SIG_SETMASK, &before, NULL);
  return failed;
}
