/* Calls that change files, counted and failed: loaded into a program before the C library.

   Of the calls under one folder the one numbered `at` kills the process (1), fails with EIO (2), or fails with
   ENOSPC together with all after it that need room (3). */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <sys/uio.h>
#include <unistd.h>

static long count, cut;
static int mode;
static char under[PATH_MAX];

void fault_arm(long at, int how, const char *folder) {
  count = 0, cut = at, mode = how;
  snprintf(under, sizeof under, "%s", folder);
}

long fault_count(void) { return count; }

static int inside(const char *path, int descriptor) {
  char name[PATH_MAX], link[64];
  if (!under[0]) return 0;
  if (!path) {
    snprintf(link, sizeof link, "/proc/self/fd/%d", descriptor);
    ssize_t n = readlink(link, name, sizeof name - 1);
    if (n < 0) return 0;
    name[n] = 0;
    path = name;
  } else if (path[0] != '/')
    return 1; /* the working folder is the one that is watched */
  return !strncmp(path, under, strlen(under));
}

/* Whether the call has to fail; room: whether it takes space. */
static int failed(const char *path, int descriptor, int room) {
  if (!inside(path, descriptor)) return 0;
  long n = ++count;
  if (mode == 1 && n == cut) kill(getpid(), SIGKILL);
  if (mode == 2 && n == cut) return errno = EIO;
  if (mode == 3 && n >= cut && room) return errno = ENOSPC;
  return 0;
}

#define NEXT(name) ((__typeof__(&name))dlsym(RTLD_NEXT, #name))
#define WRAP(type, name, params, args, path, descriptor, room) \
  type name params { return failed(path, descriptor, room) ? (type)-1 : NEXT(name) args; }

WRAP(ssize_t, write, (int d, const void *b, size_t n), (d, b, n), NULL, d, 1)
WRAP(ssize_t, pwrite, (int d, const void *b, size_t n, off_t o), (d, b, n, o), NULL, d, 1)
WRAP(ssize_t, pwrite64, (int d, const void *b, size_t n, off64_t o), (d, b, n, o), NULL, d, 1)
WRAP(ssize_t, writev, (int d, const struct iovec *v, int n), (d, v, n), NULL, d, 1)
WRAP(int, ftruncate, (int d, off_t n), (d, n), NULL, d, 1)
WRAP(int, ftruncate64, (int d, off64_t n), (d, n), NULL, d, 1)
WRAP(int, fsync, (int d), (d), NULL, d, 0)
WRAP(int, fdatasync, (int d), (d), NULL, d, 0)
WRAP(int, rename, (const char *a, const char *b), (a, b), b, 0, 0)
WRAP(int, renameat, (int x, const char *a, int y, const char *b), (x, a, y, b), b, 0, 0)
WRAP(int, renameat2, (int x, const char *a, int y, const char *b, unsigned f), (x, a, y, b, f), b, 0, 0)
WRAP(int, link, (const char *a, const char *b), (a, b), b, 0, 1)
WRAP(int, unlink, (const char *a), (a), a, 0, 0)
WRAP(int, rmdir, (const char *a), (a), a, 0, 0)
WRAP(int, mkdir, (const char *a, mode_t m), (a, m), a, 0, 1)

#define OPEN(name)                                                          \
  int name(const char *path, int flags, ...) {                              \
    va_list more;                                                           \
    va_start(more, flags);                                                  \
    mode_t rights = flags & (O_CREAT | __O_TMPFILE) ? va_arg(more, mode_t) : 0; \
    va_end(more);                                                           \
    if (flags & (O_CREAT | O_TRUNC) && failed(path, 0, 1)) return -1;       \
    return NEXT(name)(path, flags, rights);                                 \
  }
OPEN(open)
OPEN(open64)
