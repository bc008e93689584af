#include "loamdb.h"
#include <stdio.h>
#include <string.h>

int main(int argc, char **argv)
{
	char value[4096];
	if (argc == 2 && strcmp(argv[1], "--version") == 0) {
		printf("loamdb %s\n", VERSION);
		return 0;
	}
	if (argc == 5 && strcmp(argv[1], "put") == 0 && loamdb_put(argv[2], argv[3], argv[4]) == 0)
		return 0;
	if (argc == 4 && strcmp(argv[1], "get") == 0 && loamdb_get(argv[2], argv[3], value, sizeof value) == 0) {
		puts(value);
		return 0;
	}
	if (argc < 4)
		fprintf(stderr, "usage: loamdb put FILE KEY VALUE | loamdb get FILE KEY\n");
	else
		perror("loamdb");
	return 1;
}
