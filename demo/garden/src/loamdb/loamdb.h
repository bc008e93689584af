/* loamdb: a record store in a file. Later records bury earlier ones, as soil
 * does, so the newest value of a key is the one that counts. */
#ifndef LOAMDB_H
#define LOAMDB_H
#include <stddef.h>

/* Each returns 0, or -1 with errno set. A key has no tabs or line ends, a
 * value no line ends. */
int loamdb_put(const char *file, const char *key, const char *value);
int loamdb_get(const char *file, const char *key, char *value, size_t size);
#endif
