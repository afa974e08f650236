/* Programs that confine themselves: whether what they will be allowed still lets the tap speak. Where it does not, the tap falls
 * silent before the filter is in force; the first word after it could end the program. */
#define _GNU_SOURCE
#include <errno.h>
#include <linux/audit.h>
#include <linux/filter.h>
#include <linux/seccomp.h>
#include <stdarg.h>
#include <stddef.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include "tap.h"

#if defined(__x86_64__)
#define HERE AUDIT_ARCH_X86_64
#else
#define HERE AUDIT_ARCH_AARCH64
#endif

/* What a classic filter says of one call (linux/filter.h; the instructions that seccomp takes). Of what is no such filter, that it
 * kills: then nothing is risked. */
static uint32_t verdict(const struct sock_fprog *program, const struct seccomp_data *data) {
  uint32_t a = 0, x = 0, memory[BPF_MEMWORDS] = {0};
  for (unsigned at = 0, steps = 0; at < program->len && steps < 100000; at++, steps++) {
    const struct sock_filter *i = &program->filter[at];
    uint32_t operand = BPF_SRC(i->code) == BPF_X ? x : i->k;
    switch (BPF_CLASS(i->code)) {
      case BPF_LD:
      case BPF_LDX: {
        uint32_t value = i->k;
        if (BPF_MODE(i->code) == BPF_ABS && i->k % 4 == 0 && i->k < sizeof *data) memcpy(&value, (const char *)data + i->k, 4);
        else if (BPF_MODE(i->code) == BPF_MEM && i->k < BPF_MEMWORDS) value = memory[i->k];
        else if (BPF_MODE(i->code) == BPF_LEN) value = sizeof *data;
        else if (BPF_MODE(i->code) != BPF_IMM) return SECCOMP_RET_KILL_PROCESS;
        *(BPF_CLASS(i->code) == BPF_LD ? &a : &x) = value;
        break;
      }
      case BPF_ST:
      case BPF_STX:
        if (i->k >= BPF_MEMWORDS) return SECCOMP_RET_KILL_PROCESS;
        memory[i->k] = BPF_CLASS(i->code) == BPF_ST ? a : x;
        break;
      case BPF_ALU:
        switch (BPF_OP(i->code)) {
          case BPF_ADD: a += operand; break;
          case BPF_SUB: a -= operand; break;
          case BPF_MUL: a *= operand; break;
          case BPF_DIV: a = operand ? a / operand : 0; break;
          case BPF_AND: a &= operand; break;
          case BPF_OR: a |= operand; break;
          case BPF_XOR: a ^= operand; break;
          case BPF_LSH: a = operand < 32 ? a << operand : 0; break;
          case BPF_RSH: a = operand < 32 ? a >> operand : 0; break;
          case BPF_NEG: a = 0u - a; break;
          default: return SECCOMP_RET_KILL_PROCESS;
        }
        break;
      case BPF_JMP: {
        int holds = 0;
        switch (BPF_OP(i->code)) {
          case BPF_JA: at += i->k; continue;
          case BPF_JEQ: holds = a == operand; break;
          case BPF_JGT: holds = a > operand; break;
          case BPF_JGE: holds = a >= operand; break;
          case BPF_JSET: holds = (a & operand) != 0; break;
          default: return SECCOMP_RET_KILL_PROCESS;
        }
        at += holds ? i->jt : i->jf;
        break;
      }
      case BPF_RET: return BPF_RVAL(i->code) == BPF_A ? a : i->k;
      default: a = BPF_MISCOP(i->code) == BPF_TXA ? x : a; x = BPF_MISCOP(i->code) == BPF_TAX ? a : x;
    }
  }
  return SECCOMP_RET_KILL_PROCESS;
}

/* Whether everything that the tap does can end in an error at worst. Arguments are not known: they are 0. */
static int lets_speak(const struct sock_fprog *program) {
  static const int calls[] = {
      SYS_sendmsg, SYS_recvmsg, SYS_memfd_create, SYS_write, SYS_close, SYS_fstat, SYS_fcntl, SYS_mmap, SYS_munmap, SYS_mremap,
      SYS_getrusage, SYS_clock_gettime, SYS_gettid, SYS_getpid, SYS_futex,
#ifdef SYS_poll
      SYS_poll,
#else
      SYS_ppoll,
#endif
  };
  for (size_t i = 0; i < sizeof calls / sizeof *calls; i++) {
    struct seccomp_data data = {.nr = calls[i], .arch = HERE};
    uint32_t action = verdict(program, &data) & SECCOMP_RET_ACTION_FULL;
    if (action != SECCOMP_RET_ALLOW && action != SECCOMP_RET_ERRNO && action != SECCOMP_RET_LOG) return 0;
  }
  return 1;
}

static void confines_itself(const struct sock_fprog *program) {
  if (!program || !lets_speak(program)) tap_fall_silent();
}

EARLY TAP_EXPORT int prctl(int option, ...) {
  static int (*real)(int, unsigned long, unsigned long, unsigned long, unsigned long);
  va_list rest;
  unsigned long v[4];
  va_start(rest, option);
  for (int i = 0; i < 4; i++) v[i] = va_arg(rest, unsigned long);
  va_end(rest);
  if (option == PR_SET_SECCOMP) confines_itself(v[0] == SECCOMP_MODE_FILTER ? (const struct sock_fprog *)v[1] : NULL);
  if (!real) real = (int (*)(int, unsigned long, unsigned long, unsigned long, unsigned long))tap_next("prctl");
  if (!real) {
    errno = ENOSYS;
    return -1;
  }
  return real(option, v[0], v[1], v[2], v[3]);
}

/* `syscall` is entered by way of a jump: no frame of ours lies between a call such as clone and its caller. */
long (*tap_real_syscall)(long, ...) __attribute__((visibility("hidden")));

EARLY __attribute__((used, visibility("hidden"))) void tap_syscall_filter(long number, long operation, long flags, const void *arguments) {
  (void)flags;
  if (!tap_real_syscall) tap_real_syscall = (long (*)(long, ...))tap_next("syscall");
  if (number == SYS_seccomp && operation == SECCOMP_SET_MODE_FILTER) confines_itself(arguments);
  if (number == SYS_seccomp && operation == SECCOMP_SET_MODE_STRICT) confines_itself(NULL);
}

#if defined(__x86_64__)
__asm__(
    ".text\n.globl syscall\n.type syscall,@function\nsyscall:\n"
    "  endbr64\n  cmp $317,%rdi\n  je 1f\n"
    "  mov tap_real_syscall(%rip),%rax\n  test %rax,%rax\n  je 1f\n  jmp *%rax\n"
    "1: push %rdi\n  push %rsi\n  push %rdx\n  push %rcx\n  push %r8\n  push %r9\n  sub $8,%rsp\n"
    "  call tap_syscall_filter\n"
    "  add $8,%rsp\n  pop %r9\n  pop %r8\n  pop %rcx\n  pop %rdx\n  pop %rsi\n  pop %rdi\n"
    "  jmp *tap_real_syscall(%rip)\n.size syscall,.-syscall\n");
#elif defined(__aarch64__)
__asm__(
    ".text\n.globl syscall\n.type syscall,%function\nsyscall:\n"
    "  adrp x9,tap_real_syscall\n  ldr x9,[x9,:lo12:tap_real_syscall]\n"
    "  cbz x9,1f\n  cmp x0,#277\n  b.eq 1f\n  br x9\n"
    "1: stp x29,x30,[sp,#-80]!\n  stp x0,x1,[sp,#16]\n  stp x2,x3,[sp,#32]\n  stp x4,x5,[sp,#48]\n  stp x6,x7,[sp,#64]\n"
    "  bl tap_syscall_filter\n"
    "  ldp x0,x1,[sp,#16]\n  ldp x2,x3,[sp,#32]\n  ldp x4,x5,[sp,#48]\n  ldp x6,x7,[sp,#64]\n  ldp x29,x30,[sp],#80\n"
    "  adrp x9,tap_real_syscall\n  ldr x9,[x9,:lo12:tap_real_syscall]\n  br x9\n.size syscall,.-syscall\n");
#endif
