/* A layer between the program and the system, for tests: the n-th opening, writing or renaming of a file in the scene's
 * folder fails. FAULT_KIND is open, write or rename; FAULT_AT is n, from 1; FAULT_IN is the folder; FAULT_COUNT is a file
 * that gets the number of such calls at the end. Loaded before the C library (LD_PRELOAD). */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdarg.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <unistd.h>

static atomic_long count;

static int is_kind(const char *kind) {
  const char *wanted = getenv("FAULT_KIND");
  return wanted && strcmp(wanted, kind) == 0;
}

/* Does a path lie in the scene? Relative ones do: the program runs there. */
static int in_scene(const char *path) {
  const char *scene = getenv("FAULT_IN");
  return scene && path && (path[0] != '/' || strncmp(path, scene, strlen(scene)) == 0);
}

static int fd_in_scene(int fd) {
  char link[64], path[PATH_MAX];
  snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
  ssize_t n = syscall(SYS_readlinkat, AT_FDCWD, link, path, sizeof path - 1);
  if (n <= 0) return 0;
  path[n] = 0;
  return path[0] == '/' && in_scene(path);
}

/* Is it this call's turn to fail? */
static int fails(void) {
  const char *at = getenv("FAULT_AT");
  long n = atomic_fetch_add(&count, 1) + 1;
  return at && n == atol(at);
}

__attribute__((destructor)) static void tell(void) {
  const char *path = getenv("FAULT_COUNT");
  if (!path) return;
  char text[32];
  int length = snprintf(text, sizeof text, "%ld", atomic_load(&count));
  int fd = syscall(SYS_openat, AT_FDCWD, path, O_WRONLY | O_CREAT | O_TRUNC, 0600);
  if (fd >= 0) {
    syscall(SYS_write, fd, text, length);
    syscall(SYS_close, fd);
  }
}

#define NEXT(name) (name##_next ? name##_next : (name##_next = dlsym(RTLD_NEXT, #name)))

#define OPENING(name)                                              \
  int name(const char *path, int flags, ...) {                     \
    static int (*name##_next)(const char *, int, ...);             \
    va_list list;                                                  \
    va_start(list, flags);                                         \
    mode_t mode = flags & (O_CREAT | O_TMPFILE) ? va_arg(list, mode_t) : 0; \
    va_end(list);                                                  \
    if (is_kind("open") && in_scene(path) && fails()) {            \
      errno = EACCES;                                              \
      return -1;                                                   \
    }                                                              \
    return NEXT(name)(path, flags, mode);                          \
  }
OPENING(open)
OPENING(open64)

#define OPENING_AT(name)                                           \
  int name(int folder, const char *path, int flags, ...) {         \
    static int (*name##_next)(int, const char *, int, ...);        \
    va_list list;                                                  \
    va_start(list, flags);                                         \
    mode_t mode = flags & (O_CREAT | O_TMPFILE) ? va_arg(list, mode_t) : 0; \
    va_end(list);                                                  \
    if (is_kind("open") && in_scene(path) && fails()) {            \
      errno = EACCES;                                              \
      return -1;                                                   \
    }                                                              \
    return NEXT(name)(folder, path, flags, mode);                  \
  }
OPENING_AT(openat)
OPENING_AT(openat64)

#define FULL_DISK(fd)                                              \
  if (is_kind("write") && fd_in_scene(fd) && fails()) {            \
    errno = ENOSPC;                                                \
    return -1;                                                     \
  }

ssize_t write(int fd, const void *from, size_t n) {
  static ssize_t (*write_next)(int, const void *, size_t);
  FULL_DISK(fd)
  return NEXT(write)(fd, from, n);
}

ssize_t writev(int fd, const struct iovec *from, int n) {
  static ssize_t (*writev_next)(int, const struct iovec *, int);
  FULL_DISK(fd)
  return NEXT(writev)(fd, from, n);
}

ssize_t pwrite64(int fd, const void *from, size_t n, off64_t at) {
  static ssize_t (*pwrite64_next)(int, const void *, size_t, off64_t);
  FULL_DISK(fd)
  return NEXT(pwrite64)(fd, from, n, at);
}

ssize_t copy_file_range(int in, off64_t *in_at, int out, off64_t *out_at, size_t n, unsigned flags) {
  static ssize_t (*copy_file_range_next)(int, off64_t *, int, off64_t *, size_t, unsigned);
  FULL_DISK(out)
  return NEXT(copy_file_range)(in, in_at, out, out_at, n, flags);
}

int rename(const char *from, const char *to) {
  static int (*rename_next)(const char *, const char *);
  if (is_kind("rename") && in_scene(to) && fails()) {
    errno = EIO;
    return -1;
  }
  return NEXT(rename)(from, to);
}

int renameat2(int a, const char *from, int b, const char *to, unsigned flags) {
  if (is_kind("rename") && in_scene(to) && fails()) {
    errno = EIO;
    return -1;
  }
  return syscall(SYS_renameat2, a, from, b, to, flags);
}

int renameat(int a, const char *from, int b, const char *to) {
  static int (*renameat_next)(int, const char *, int, const char *);
  if (is_kind("rename") && in_scene(to) && fails()) {
    errno = EIO;
    return -1;
  }
  return NEXT(renameat)(a, from, b, to);
}
