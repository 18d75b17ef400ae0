"""Which calls of the system foreign work may make (seccomp, kernel documentation `userspace-api/seccomp_filter`).

What is not named here does not exist for it (`ENOSYS`, so that libraries take another way); what people try by mistake is refused in words.
There is no way to a second process, a socket of a network, a mount, a namespace, a key, or memory that no limit counts.
"""

import errno
import os
from functools import lru_cache

_ALLOWED = """
read write readv writev pread64 pwrite64 preadv pwritev preadv2 pwritev2 open openat close close_range lseek _llseek sendfile sendfile64
stat stat64 fstat fstat64 lstat lstat64 newfstatat fstatat64 statx access faccessat faccessat2 readlink readlinkat getdents getdents64
dup dup2 dup3 fcntl fcntl64 flock fsync fdatasync ftruncate ftruncate64 truncate truncate64 fallocate copy_file_range fadvise64 pipe pipe2
poll ppoll ppoll_time64 select pselect6 pselect6_time64 epoll_create epoll_create1 epoll_ctl epoll_wait epoll_pwait epoll_pwait2 eventfd eventfd2
ioctl umask mkdir mkdirat rmdir unlink unlinkat rename renameat renameat2 link linkat symlink symlinkat chmod fchmod fchmodat
utimensat utimensat_time64 futimesat utime utimes chdir fchdir getcwd statfs statfs64 fstatfs fstatfs64
mmap mmap2 munmap mprotect mremap madvise brk msync mlock munlock mincore membarrier
exit exit_group execve wait4 waitid getpid getppid gettid getuid getuid32 geteuid geteuid32 getgid getgid32 getegid getegid32
getresuid getresuid32 getresgid getresgid32 getgroups getgroups32 getpgrp getpgid getsid getrlimit ugetrlimit setrlimit prlimit64 getrusage times
sched_yield sched_getaffinity sched_getparam sched_getscheduler sched_get_priority_max sched_get_priority_min getpriority
prctl arch_prctl set_thread_area get_thread_area set_tls set_tid_address set_robust_list get_robust_list futex futex_time64 futex_waitv rseq
restart_syscall kill tgkill tkill rt_sigaction rt_sigprocmask rt_sigreturn sigreturn rt_sigpending rt_sigsuspend rt_sigtimedwait
rt_sigtimedwait_time64 sigaltstack pause alarm setitimer getitimer uname sysinfo getcpu getrandom
clock_gettime clock_gettime64 clock_getres clock_getres_time64 clock_nanosleep clock_nanosleep_time64 nanosleep gettimeofday time
timerfd_create timerfd_settime timerfd_settime64 timerfd_gettime timerfd_gettime64
socketpair sendto recvfrom sendmsg recvmsg send recv shutdown getsockopt setsockopt getsockname getpeername
"""
_REFUSED = "fork vfork socket connect bind mount umount2 ptrace unshare setns chroot pivot_root setuid setgid setgroups"
_CLONE_THREAD = 0x00010000


@lru_cache(maxsize=1)
def program() -> bytes:
    """The filter as the kernel takes it. Raises `OSError` or `ImportError` where libseccomp is not there. It takes a while."""
    import pyseccomp as seccomp

    rules = seccomp.SyscallFilter(seccomp.ERRNO(errno.ENOSYS))
    for name in _ALLOWED.split():
        _rule(rules, seccomp.ALLOW, name)
    for name in _REFUSED.split():
        _rule(rules, seccomp.ERRNO(errno.EPERM), name)
    thread = seccomp.Arg(0, seccomp.MASKED_EQ, _CLONE_THREAD, _CLONE_THREAD)
    rules.add_rule(seccomp.ALLOW, "clone", thread)
    rules.add_rule(seccomp.ERRNO(errno.EPERM), "clone", seccomp.Arg(0, seccomp.MASKED_EQ, _CLONE_THREAD, 0))
    reading, writing = os.pipe()
    with open(reading, "rb") as out:
        with open(writing, "wb") as into:
            rules.export_bpf(into)
        return out.read()


def _rule(rules: "object", action: int, name: str) -> None:
    """A rule for a call by its name; a machine that has no such call needs none."""
    try:
        rules.add_rule(action, name)  # type: ignore[attr-defined]
    except (OSError, ValueError, RuntimeError):
        return
