/* An OpenGL ES program that does what few programs do, for tests of the tap: `odd MODE FRAMES OUT`.
 *
 * It draws FRAMES frames into a pbuffer, does its odd thing before them, between two of them or after them, and writes what it saw
 * of the last one to OUT. With the tap it must end in the same way, and OUT hold the same, as without. Exits 3 on any GL error,
 * 9 where something of its own was harmed, 77 where this machine does not let it do its thing. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/audit.h>
#include <linux/filter.h>
#include <linux/seccomp.h>
#include <malloc.h>
#include <pthread.h>
#include <sched.h>
#include <setjmp.h>
#include <signal.h>
#include <spawn.h>
#include <stddef.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/time.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

extern char **environ;
typedef void *(*Get)(const char *);
static const char *self, *mode, *out_path;
static int frames, pause_us = 2000;

/* ---- drawing ------------------------------------------------------------------------------------- */

typedef struct {
  void *egl, *display, *config, *context, *surface;
  Get get;
  unsigned seen;
  int number;
} Drawer;
static Drawer main_drawer;

#define EGL(d, type, name, ...) ((type(*)(__VA_ARGS__))dlsym((d)->egl, #name))
#define GL(d, type, name, ...) ((type(*)(__VA_ARGS__))(d)->get(#name))

static int current(Drawer *d) {
  return EGL(d, unsigned, eglMakeCurrent, void *, void *, void *, void *)(d->display, d->surface, d->surface, d->context) != 0;
}

static void open_with(Drawer *d, void *library, void *share) {
  static const int wanted[] = {0x3033, 1, 0x3040, 0x40, 0x3021, 8, 0x3038};
  static const int version[] = {0x3098, 3, 0x30FB, 0, 0x3038}, size[] = {0x3057, 64, 0x3056, 64, 0x3038};
  int found = 0;
  if (!(d->egl = library)) exit(2);
  d->get = (Get)dlsym(d->egl, "eglGetProcAddress");
  d->display = GL(d, void *, eglGetPlatformDisplayEXT, unsigned, void *, const int *)(0x31DD, NULL, NULL);
  if (!EGL(d, unsigned, eglInitialize, void *, int *, int *)(d->display, NULL, NULL)) exit(5);
  EGL(d, unsigned, eglBindAPI, unsigned)(0x30A0);
  if (!EGL(d, unsigned, eglChooseConfig, void *, const int *, void **, int, int *)(d->display, wanted, &d->config, 1, &found) || !found) exit(5);
  d->context = EGL(d, void *, eglCreateContext, void *, void *, void *, const int *)(d->display, d->config, share, version);
  d->surface = EGL(d, void *, eglCreatePbufferSurface, void *, void *, const int *)(d->display, d->config, size);
  if (!d->context || !d->surface || !current(d)) exit(5);
}

static void open_drawer(Drawer *d) { open_with(d, dlopen("libEGL.so.1", RTLD_NOW), NULL); }

static void close_drawer(Drawer *d, int unload) {
  EGL(d, unsigned, eglMakeCurrent, void *, void *, void *, void *)(d->display, NULL, NULL, NULL);
  EGL(d, unsigned, eglDestroySurface, void *, void *)(d->display, d->surface);
  EGL(d, unsigned, eglDestroyContext, void *, void *)(d->display, d->context);
  if (unload) {
    EGL(d, unsigned, eglTerminate, void *)(d->display);
    dlclose(d->egl);
  }
}

/* A long source each time: what the tap remembers grows. */
static void compile(Drawer *d, int frame) {
  static __thread char text[6000];
  unsigned shader = GL(d, unsigned, glCreateShader, unsigned)(0x8B30);
  int at = snprintf(text, sizeof text, "#version 300 es\nprecision mediump float; out vec4 c; void main() { c = vec4(%d.0); }\n//", frame);
  memset(text + at, 'x', sizeof text - (size_t)at - 1);
  const char *source = text;
  GL(d, void, glShaderSource, unsigned, int, const char *const *, const int *)(shader, 1, &source, NULL);
  GL(d, void, glDeleteShader, unsigned)(shader);
}

static void draw_scene(Drawer *d, int frame) {
  unsigned buffer = 0, bytes[256] = {0};
  GL(d, void, glDisable, unsigned)(0x0C11);
  GL(d, void, glClearColor, float, float, float, float)((float)(frame % 16) / 15.0f, (float)d->number / 32.0f, 0.5f, 1.0f);
  GL(d, void, glClear, unsigned)(0x4000);
  GL(d, void, glEnable, unsigned)(0x0C11);
  GL(d, void, glScissor, int, int, int, int)(8, 8, 16, 16);
  GL(d, void, glClearColor, float, float, float, float)(1, 1, 1, 1);
  GL(d, void, glClear, unsigned)(0x4000);
  GL(d, void, glGenBuffers, int, unsigned *)(1, &buffer);
  GL(d, void, glBindBuffer, unsigned, unsigned)(0x8892, buffer);
  GL(d, void, glBufferData, unsigned, intptr_t, const void *, unsigned)(0x8892, sizeof bytes, bytes, 0x88E4);
  compile(d, frame);
  GL(d, void, glReadPixels, int, int, int, int, unsigned, unsigned, void *)(3, 3, 1, 1, 0x1908, 0x1401, &d->seen);
  GL(d, void, glDeleteBuffers, int, const unsigned *)(1, &buffer);
  if (GL(d, unsigned, glGetError, void)()) exit(3);
}
static void draw_one(Drawer *d, int frame) {
  draw_scene(d, frame);
  EGL(d, unsigned, eglSwapBuffers, void *, void *)(d->display, d->surface);
}

static void rest(void) {
  struct timespec left = {0, pause_us * 1000l};
  while (nanosleep(&left, &left) != 0 && errno == EINTR) {}
}

static void draw_frames(Drawer *d, int from, int to) {
  for (int frame = from; frame < to; frame++) {
    draw_one(d, frame);
    rest();
  }
}

static void tell(const char *path, const Drawer *d) {
  char name[4096];
  snprintf(name, sizeof name, "%s.new", path);
  FILE *out = fopen(name, "w");
  if (!out) exit(6);
  fprintf(out, "%08x\n", d->seen);
  if (fclose(out) != 0 || rename(name, path) != 0) exit(6);
}

static void refused(void) { exit(77); }

/* ---- what is odd ----------------------------------------------------------------------------------- */

static void reload(void) {
  for (int i = 0; i < 10; i++) {
    Drawer d = {.number = i};
    open_drawer(&d);
    draw_frames(&d, 0, 3);
    close_drawer(&d, 1);
  }
}

static void reload_between(void) {
  close_drawer(&main_drawer, 1);
  reload();
  open_drawer(&main_drawer);
}

static void reload_gles(void) {
  for (int i = 0; i < 5; i++) {
    void *gles = dlopen("libGLESv2.so.2", RTLD_NOW | RTLD_GLOBAL);
    Drawer d = {0};
    open_drawer(&d);
    void (*clear)(unsigned) = (void (*)(unsigned))dlsym(gles, "glClear");
    clear(0x4000);
    draw_frames(&d, 0, 3);
    close_drawer(&d, 1);
    dlclose(gles);
  }
}

static void many_contexts(void) {
  for (int i = 0; i < 60; i++) {
    Drawer d = {.number = i};
    open_drawer(&d);
    close_drawer(&d, 0);
  }
}

static void become_daemon(int twice) {
  if (fork()) _exit(0);
  setsid();
  if (twice && fork()) _exit(0);
  if (twice && chdir("/") != 0) exit(6);
}
static void daemonize(void) { become_daemon(0); }
static void daemonize_closed(void) {
  become_daemon(1);
  close_range(0, ~0u, 0);
}

static int wait_for(pid_t child) {
  int status = 0;
  while (waitpid(child, &status, 0) < 0 && errno == EINTR) {}
  return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

static void fork_and_wait(void) {
  pid_t child = fork();
  if (child) exit(wait_for(child));
}
static void fork_idle(void) {
  pid_t child = fork();
  if (!child) {
    usleep(30000);
    _exit(0);
  }
}
static void fork_drawing(void) { /* both draw, in contexts of their own; what each of them keeps must stay its own */
  pid_t child = fork();
  if (child) return;
  Drawer d = {.number = 7};
  open_drawer(&d);
  draw_frames(&d, 0, 12);
  _exit(0);
}
static void raw_clone(void) {
  pid_t child = (pid_t)syscall(SYS_clone, SIGCHLD, NULL, NULL, NULL, NULL);
  if (child) exit(wait_for(child));
}
static void raw_clone_drawing(void) {
  if (syscall(SYS_clone, SIGCHLD, NULL, NULL, NULL, NULL)) return;
  Drawer d = {.number = 9};
  open_drawer(&d);
  draw_frames(&d, 3, 9);
  _exit(0);
}

static char *again[5];
static void again_as(const char *other) {
  static char number[16];
  snprintf(number, sizeof number, "%d", frames);
  char *const arguments[] = {(char *)self, (char *)other, number, (char *)out_path, NULL};
  memcpy(again, arguments, sizeof arguments);
}
static void exec_again(void) {
  again_as("plain");
  execv("/proc/self/exe", again);
  exit(6);
}
static void exec_bare(void) { /* the tap does not come along */
  again_as("plain");
  char *const nothing[] = {NULL};
  execve("/proc/self/exe", again, nothing);
  exit(6);
}
static void spawn_again(void) {
  pid_t child;
  again_as("plain");
  if (posix_spawn(&child, self, NULL, NULL, again, environ) != 0) exit(6);
  exit(wait_for(child));
}
static void vfork_again(void) {
  again_as("plain");
  pid_t child = vfork();
  if (!child) {
    execv(self, again);
    _exit(6);
  }
  exit(wait_for(child));
}
static void system_idle(void) { if (system("true") != 0) exit(6); }
static void clear_environment(void) { clearenv(); }

static void close_all(void) { close_range(3, ~0u, 0); }
static int mine[64];
static char mine_path[4096];
static void replace_all(void) { /* files of its own lie where the tap's were */
  close_range(3, ~0u, 0);
  snprintf(mine_path, sizeof mine_path, "%s.mine", out_path);
  for (int i = 0; i < 64; i++)
    if ((mine[i] = open(mine_path, O_RDWR | O_CREAT, 0600)) < 0 || (i == 0 && write(mine[i], "mine", 4) != 4)) exit(6);
}
static void check_mine(void) {
  struct stat found;
  for (int i = 0; i < 64; i++)
    if (fstat(mine[i], &found) != 0 || found.st_size != 4) exit(9);
  unlink(mine_path);
}
static int pair[64];
static void replace_by_sockets(void) { /* a word to the tap's would reach somebody else */
  close_range(3, ~0u, 0);
  for (int i = 0; i < 64; i += 2)
    if (socketpair(AF_UNIX, SOCK_SEQPACKET, 0, pair + i) != 0) exit(6);
}
static void check_sockets(void) {
  char byte;
  for (int i = 0; i < 64; i++)
    if (recv(pair[i], &byte, 1, MSG_DONTWAIT) >= 0 || errno != EAGAIN) exit(9);
}
static void close_standard(void) { close_range(0, 2, 0); }

static void limit(int what, rlim_t value) {
  struct rlimit both;
  if (getrlimit(what, &both) != 0) exit(6);
  both.rlim_cur = value;
  if (setrlimit(what, &both) != 0) refused();
}
static void more_files(void) { limit(RLIMIT_NOFILE, 256); }
static rlim_t address_space(void) {
  unsigned long pages = 0;
  FILE *file = fopen("/proc/self/statm", "r");
  if (!file || fscanf(file, "%lu", &pages) != 1) exit(6);
  fclose(file);
  return (rlim_t)pages * 4096;
}
static int open_files(void) {
  int fd = open("/dev/null", O_RDONLY);
  close(fd);
  return fd;
}
static void few_files(void) { limit(RLIMIT_NOFILE, (rlim_t)open_files() + 2); }
static void no_files(void) { limit(RLIMIT_NOFILE, 3); }
static void little_memory(void) { limit(RLIMIT_AS, address_space() + (3 << 20)); }
static void some_memory(void) { limit(RLIMIT_AS, address_space() + (300 << 20)); }
static void little_data(void) { limit(RLIMIT_DATA, 1 << 20); }
static void no_file_size(void) { limit(RLIMIT_FSIZE, 100); }
static void small_stack(void) { limit(RLIMIT_STACK, 256 << 10); }
static void no_core(void) { limit(RLIMIT_CORE, 0); }
static void locked_memory(void) {
  limit(RLIMIT_MEMLOCK, 64 << 10);
  mlockall(MCL_FUTURE);
}
static void one_process(void) { limit(RLIMIT_NPROC, 1); }

static volatile sig_atomic_t rung;
static void ring(int number) { rung++; (void)number; }
static void handle(int number, void (*handler)(int), int flags) {
  struct sigaction action = {.sa_handler = handler, .sa_flags = flags};
  sigaction(number, &action, NULL);
}
static void timer(int which, int number, int flags) {
  handle(number, ring, flags);
  struct itimerval every = {{0, 500}, {0, 500}};
  setitimer(which, &every, NULL);
}
static void alarms(void) { timer(ITIMER_REAL, SIGALRM, 0); }
static void profiled(void) { timer(ITIMER_PROF, SIGPROF, SA_RESTART); }
static void all_blocked(void) {
  sigset_t all;
  sigfillset(&all);
  sigprocmask(SIG_BLOCK, &all, NULL);
}
static void all_ignored(void) {
  for (int number = 1; number < 32; number++) signal(number, SIG_IGN);
}
static sigjmp_buf back;
static void jump_back(int number) { (void)number; siglongjmp(back, 1); }
static void own_fault(void) {
  static char stack[1 << 16];
  stack_t alternative = {.ss_sp = stack, .ss_size = sizeof stack};
  sigaltstack(&alternative, NULL);
  handle(SIGSEGV, jump_back, SA_ONSTACK);
  if (!sigsetjmp(back, 1)) *(volatile int *)8 = 1;
}
static void child_handler(void) {
  handle(SIGCHLD, ring, 0);
  fork_idle();
}
static void pipe_broken(void) {
  int ends[2];
  signal(SIGPIPE, SIG_DFL);
  if (pipe(ends) != 0) exit(6);
  close(ends[0]);
}

static void *draw_thread(void *data) {
  Drawer *d = data;
  open_with(d, dlopen("libEGL.so.1", RTLD_NOW), NULL);
  draw_frames(d, 0, 10);
  return NULL; /* its context stays current */
}
static void threads_of(int count, size_t stack) {
  static Drawer drawers[16];
  pthread_t threads[16];
  pthread_attr_t attributes;
  pthread_attr_init(&attributes);
  if (stack) pthread_attr_setstacksize(&attributes, stack);
  for (int i = 0; i < count; i++) {
    drawers[i].number = i;
    pthread_create(&threads[i], &attributes, draw_thread, &drawers[i]);
  }
  for (int i = 0; i < count; i++) pthread_join(threads[i], NULL);
}
static void threads_many(void) { threads_of(16, 0); }
static void thread_small(void) { threads_of(2, 192 << 10); }
static void *draw_for_ever(void *data) { /* to be ended where it waits for nothing in the driver, which would keep its locks */
  Drawer *d = data;
  int state;
  pthread_setcancelstate(PTHREAD_CANCEL_DISABLE, &state);
  open_drawer(d);
  for (int frame = 0;; frame++) {
    draw_scene(d, frame);
    GL(d, void, glFinish, void)();
    pthread_setcancelstate(PTHREAD_CANCEL_ENABLE, &state);
    EGL(d, unsigned, eglSwapBuffers, void *, void *)(d->display, d->surface);
    pthread_testcancel();
    pthread_setcancelstate(PTHREAD_CANCEL_DISABLE, &state);
  }
}
static void thread_cancelled(void) {
  static Drawer d;
  pthread_t thread;
  pthread_create(&thread, NULL, draw_for_ever, &d);
  usleep(60000);
  pthread_cancel(thread);
  pthread_join(thread, NULL);
}
static int passed_at;
static void *draw_passed(void *data) {
  if (!current(data)) exit(5);
  draw_frames(data, passed_at, passed_at + 2);
  EGL((Drawer *)data, unsigned, eglMakeCurrent, void *, void *, void *, void *)(main_drawer.display, NULL, NULL, NULL);
  return NULL;
}
static void thread_passed(void) { /* one context, on one thread after the other */
  for (int i = 0; i < 4; i++) {
    pthread_t thread;
    EGL(&main_drawer, unsigned, eglMakeCurrent, void *, void *, void *, void *)(main_drawer.display, NULL, NULL, NULL);
    passed_at = 2 * i;
    pthread_create(&thread, NULL, draw_passed, &main_drawer);
    pthread_join(thread, NULL);
  }
  if (!current(&main_drawer)) exit(5);
}

static void apart(void) { /* functions of a library in a namespace of its own; drawing with two of them at once ends Mesa */
  void *library = dlmopen(LM_ID_NEWLM, "libEGL.so.1", RTLD_NOW);
  if (!library || !dlsym(library, "eglSwapBuffers") || dlsym(library, "eglSwapBuffers") == dlsym(RTLD_DEFAULT, "eglSwapBuffers")) exit(9);
}
static void deeply_bound(void) { open_with(&main_drawer, dlopen("libEGL.so.1", RTLD_NOW | RTLD_DEEPBIND), NULL); }
static void globally(void) { open_with(&main_drawer, dlopen("libEGL.so.1", RTLD_LAZY | RTLD_GLOBAL), NULL); }

static void other_user(void) {
  if (setresgid(65534, 65534, 65534) != 0 || setresuid(65534, 65534, 65534) != 0) refused();
}
static void other_user_and_back(void) {
  if (seteuid(65534) != 0) refused();
}
static void back_to_root(void) { if (seteuid(0) != 0) exit(6); }
static void other_root(void) {
  char folder[] = "/tmp/odd-root-XXXXXX";
  int before = open("/", O_PATH);
  if (!mkdtemp(folder) || chroot(folder) != 0) refused();
  draw_frames(&main_drawer, 0, 6);
  if (fchdir(before) != 0 || chroot(".") != 0) exit(6);
  rmdir(folder);
}
static void gone_folder(void) {
  char folder[] = "/tmp/odd-gone-XXXXXX";
  if (!mkdtemp(folder) || chdir(folder) != 0) exit(6);
  rmdir(folder);
}
static void other_namespaces(void) {
  if (unshare(CLONE_NEWNS | CLONE_NEWIPC | CLONE_NEWNET) != 0) refused();
}
static void first_of_its_namespace(void) {
  if (unshare(CLONE_NEWPID) != 0) refused();
  fork_and_wait();
}
static void not_dumpable(void) {
  prctl(PR_SET_DUMPABLE, 0);
  prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
}
static void own_session(void) { setsid(); }
static void renamed(void) { prctl(PR_SET_NAME, "\x1b[31m\n\xff"); }
static void niced(void) {
  cpu_set_t one;
  CPU_ZERO(&one);
  CPU_SET(0, &one);
  sched_setaffinity(0, sizeof one, &one);
  if (nice(10) == -1 && errno) exit(6);
}

/* ---- programs that confine themselves -------------------------------------------------------------- */

#if defined(__x86_64__)
#define HERE AUDIT_ARCH_X86_64
#else
#define HERE AUDIT_ARCH_AARCH64
#endif

static void confine_by(unsigned action, int direct) {
  const unsigned calls[] = {__NR_sendmsg, __NR_recvmsg, __NR_memfd_create, __NR_sendto};
  struct sock_filter code[16] = {
      {BPF_LD | BPF_W | BPF_ABS, 0, 0, offsetof(struct seccomp_data, arch)}, {BPF_JMP | BPF_JEQ | BPF_K, 1, 0, HERE},
      {BPF_RET | BPF_K, 0, 0, SECCOMP_RET_KILL_PROCESS},                     {BPF_LD | BPF_W | BPF_ABS, 0, 0, offsetof(struct seccomp_data, nr)},
  };
  unsigned short at = 4;
  for (unsigned i = 0; i < sizeof calls / sizeof *calls; i++) {
    code[at++] = (struct sock_filter){BPF_JMP | BPF_JEQ | BPF_K, 0, 1, calls[i]};
    code[at++] = (struct sock_filter){BPF_RET | BPF_K, 0, 0, action};
  }
  code[at++] = (struct sock_filter){BPF_RET | BPF_K, 0, 0, SECCOMP_RET_ALLOW};
  struct sock_fprog program = {at, code};
  prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
  if ((direct ? syscall(__NR_seccomp, SECCOMP_SET_MODE_FILTER, 0, &program) : prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, &program)) != 0) refused();
}
static void confined_refusing(void) { confine_by(SECCOMP_RET_ERRNO | EPERM, 0); }
static void confined_killing(void) { confine_by(SECCOMP_RET_KILL_PROCESS, 0); }
static void confined_killing_directly(void) { confine_by(SECCOMP_RET_KILL_PROCESS, 1); }
static void confined_trapping(void) { confine_by(SECCOMP_RET_TRAP, 1); }
static void confined_allowing(void) { confine_by(SECCOMP_RET_ALLOW, 1); }

/* ---- endings ----------------------------------------------------------------------------------------- */

static void end_early(void) { exit(42); }
static void end_at_once(void) { _exit(43); }
static void end_by_abort(void) { abort(); }
static void end_by_kill(void) { raise(SIGKILL); }
static void end_by_fault(void) { *(volatile int *)8 = 1; }
static void draw_at_exit(void) { draw_frames(&main_drawer, 0, 5); }
static void register_exit(void) { atexit(draw_at_exit); }
static void stop_a_while(void) {
  pid_t child = fork();
  if (!child) {
    usleep(100000);
    kill(getppid(), SIGCONT);
    _exit(0);
  }
  raise(SIGSTOP);
}
static void wait_long(void) { usleep(400000); }
static void sleep_long(void) { sleep(60); }
static struct rlimit memory_before;
static void no_memory_a_while(void) {
  getrlimit(RLIMIT_AS, &memory_before);
  limit(RLIMIT_AS, address_space() + (1 << 20));
  draw_frames(&main_drawer, frames / 2, frames / 2 + 200);
  setrlimit(RLIMIT_AS, &memory_before);
}
static void much_memory(void) { mallopt(M_MMAP_THRESHOLD, 1 << 30); }

typedef void (*Do)(void);
static const struct {
  const char *name;
  Do before, opens, between, after;
} modes[] = {
    {"plain", NULL, NULL, NULL, NULL},
    {"reload", reload, NULL, NULL, NULL},
    {"reload-between", NULL, NULL, reload_between, NULL},
    {"reload-gles", reload_gles, NULL, NULL, NULL},
    {"many-contexts", many_contexts, NULL, NULL, NULL},
    {"apart", apart, NULL, NULL, NULL},
    {"deeply-bound", NULL, deeply_bound, NULL, NULL},
    {"globally", NULL, globally, NULL, NULL},
    {"daemonize", daemonize, NULL, NULL, NULL},
    {"daemonize-closed", daemonize_closed, NULL, NULL, NULL},
    {"fork-and-wait", fork_and_wait, NULL, NULL, NULL},
    {"fork-idle", NULL, NULL, fork_idle, NULL},
    {"fork-drawing", fork_drawing, NULL, NULL, NULL},
    {"raw-clone", raw_clone, NULL, NULL, NULL},
    {"raw-clone-drawing", raw_clone_drawing, NULL, NULL, NULL},
    {"exec-again", exec_again, NULL, NULL, NULL},
    {"exec-between", NULL, NULL, exec_again, NULL},
    {"exec-bare", exec_bare, NULL, NULL, NULL},
    {"spawn-again", spawn_again, NULL, NULL, NULL},
    {"vfork-again", vfork_again, NULL, NULL, NULL},
    {"system-idle", NULL, NULL, system_idle, NULL},
    {"clear-environment", clear_environment, NULL, NULL, NULL},
    {"close-all", NULL, NULL, close_all, NULL},
    {"replace-all", NULL, NULL, replace_all, check_mine},
    {"replace-by-sockets", NULL, NULL, replace_by_sockets, check_sockets},
    {"close-standard", close_standard, NULL, NULL, NULL},
    {"few-files", NULL, NULL, few_files, more_files},
    {"no-files", NULL, NULL, no_files, more_files},
    {"little-memory", NULL, NULL, little_memory, NULL},
    {"some-memory", NULL, NULL, some_memory, NULL},
    {"little-data", NULL, NULL, little_data, NULL},
    {"no-file-size", NULL, NULL, no_file_size, NULL},
    {"small-stack", small_stack, NULL, NULL, NULL},
    {"no-core", no_core, NULL, NULL, NULL},
    {"locked-memory", NULL, NULL, locked_memory, NULL},
    {"one-process", NULL, NULL, one_process, NULL},
    {"alarms", alarms, NULL, NULL, NULL},
    {"profiled", profiled, NULL, NULL, NULL},
    {"all-blocked", all_blocked, NULL, NULL, NULL},
    {"all-ignored", all_ignored, NULL, NULL, NULL},
    {"own-fault", NULL, NULL, own_fault, NULL},
    {"child-handler", NULL, NULL, child_handler, NULL},
    {"pipe-broken", pipe_broken, NULL, NULL, NULL},
    {"threads-many", NULL, NULL, threads_many, NULL},
    {"thread-small", NULL, NULL, thread_small, NULL},
    {"thread-cancelled", NULL, NULL, thread_cancelled, NULL},
    {"thread-passed", NULL, NULL, thread_passed, NULL},
    {"other-user", NULL, NULL, other_user, NULL},
    {"other-user-and-back", NULL, NULL, other_user_and_back, back_to_root},
    {"other-root", NULL, NULL, other_root, NULL},
    {"gone-folder", gone_folder, NULL, NULL, NULL},
    {"other-namespaces", NULL, NULL, other_namespaces, NULL},
    {"first-of-its-namespace", first_of_its_namespace, NULL, NULL, NULL},
    {"not-dumpable", not_dumpable, NULL, NULL, NULL},
    {"own-session", own_session, NULL, NULL, NULL},
    {"renamed", renamed, NULL, NULL, NULL},
    {"niced", NULL, NULL, niced, NULL},
    {"confined-refusing", NULL, NULL, confined_refusing, NULL},
    {"confined-killing", NULL, NULL, confined_killing, NULL},
    {"confined-killing-directly", NULL, NULL, confined_killing_directly, NULL},
    {"confined-trapping", NULL, NULL, confined_trapping, NULL},
    {"confined-allowing", NULL, NULL, confined_allowing, NULL},
    {"end-early", NULL, NULL, end_early, NULL},
    {"end-at-once", NULL, NULL, end_at_once, NULL},
    {"end-by-abort", NULL, NULL, end_by_abort, NULL},
    {"end-by-kill", NULL, NULL, end_by_kill, NULL},
    {"end-by-fault", NULL, NULL, end_by_fault, NULL},
    {"draw-at-exit", NULL, NULL, register_exit, NULL},
    {"stop-a-while", NULL, NULL, stop_a_while, NULL},
    {"wait-long", NULL, NULL, wait_long, NULL},
    {"draw-and-sleep", NULL, NULL, sleep_long, NULL},
    {"no-memory-a-while", NULL, NULL, no_memory_a_while, NULL},
    {"much-memory", much_memory, NULL, NULL, NULL},
};

int main(int count, char **arguments) {
  if (count < 4) return 2;
  self = arguments[0];
  mode = arguments[1];
  frames = atoi(arguments[2]);
  out_path = arguments[3];
  for (size_t i = 0; i < sizeof modes / sizeof *modes; i++) {
    if (strcmp(modes[i].name, mode) != 0) continue;
    if (modes[i].before) modes[i].before();
    if (modes[i].opens) modes[i].opens();
    else open_drawer(&main_drawer);
    draw_frames(&main_drawer, 0, frames / 2);
    if (modes[i].between) modes[i].between();
    draw_frames(&main_drawer, frames / 2, frames);
    if (modes[i].after) modes[i].after();
    tell(out_path, &main_drawer);
    return 0;
  }
  return 2;
}
