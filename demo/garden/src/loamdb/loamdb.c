#include "loamdb.h"
#include <errno.h>
#include <stdio.h>
#include <string.h>

int loamdb_put(const char *file, const char *key, const char *value)
{
	if (strpbrk(key, "\t\n") || strchr(value, '\n')) {
		errno = EINVAL;
		return -1;
	}
	FILE *f = fopen(file, "a");
	if (!f)
		return -1;
	int failed = fprintf(f, "%s\t%s\n", key, value) < 0;
	return fclose(f) != 0 || failed ? -1 : 0;
}

int loamdb_get(const char *file, const char *key, char *value, size_t size)
{
	FILE *f = fopen(file, "r");
	if (!f)
		return -1;
	char line[4096];
	size_t length = strlen(key);
	int found = 0;
	while (fgets(line, sizeof line, f)) {
		line[strcspn(line, "\n")] = 0;
		if (strncmp(line, key, length) == 0 && line[length] == '\t') {
			snprintf(value, size, "%s", line + length + 1);
			found = 1;
		}
	}
	fclose(f);
	if (!found)
		errno = ENOENT;
	return found ? 0 : -1;
}
