/* A file layer that fails on demand, loaded in front of the C library (LD_PRELOAD).
 *
 * The file named by FENETRE_FAULTS says what fails, a line each: CALL PATH-PART ERRNO, such as `sync journal 5` or `write data 28`.
 * CALL is `write` (write, pwrite) or `sync` (fsync, fdatasync); PATH-PART is looked for in the path of the open file. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/types.h>
#include <unistd.h>

static int fault(const char *call, int fd) {
  const char *orders = getenv("FENETRE_FAULTS");
  FILE *file = orders ? fopen(orders, "r") : NULL;
  if (!file) return 0;
  char link[64], path[4096];
  snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
  ssize_t length = readlink(link, path, sizeof path - 1);
  path[length < 0 ? 0 : length] = 0;
  char name[16], part[256];
  int code, found = 0;
  while (!found && fscanf(file, "%15s %255s %d", name, part, &code) == 3)
    if (!strcmp(name, call) && strstr(path, part)) found = code;
  fclose(file);
  return found;
}

#define NEXT(name) ((__typeof__(name) *)dlsym(RTLD_NEXT, #name))
#define FAIL(call, fd)            \
  do {                            \
    int code = fault(call, fd);   \
    if (code) {                   \
      errno = code;               \
      return -1;                  \
    }                             \
  } while (0)

ssize_t write(int fd, const void *bytes, size_t count) {
  if (fd > 2) FAIL("write", fd);
  return NEXT(write)(fd, bytes, count);
}
ssize_t pwrite(int fd, const void *bytes, size_t count, off_t at) {
  FAIL("write", fd);
  return NEXT(pwrite)(fd, bytes, count, at);
}
ssize_t pwrite64(int fd, const void *bytes, size_t count, off64_t at) {
  FAIL("write", fd);
  return NEXT(pwrite64)(fd, bytes, count, at);
}
int fsync(int fd) {
  FAIL("sync", fd);
  return NEXT(fsync)(fd);
}
int fdatasync(int fd) {
  FAIL("sync", fd);
  return NEXT(fdatasync)(fd);
}
