/* sporegen: grows C tables out of text.
 *
 *   table NAME        begins a table
 *     WORD NUMBER     an entry of it
 *   # …               a remark
 */
#include <stdio.h>
#include <string.h>

int main(int argc, char **argv)
{
	if (argc == 2 && strcmp(argv[1], "--version") == 0) {
		printf("sporegen %s\n", VERSION);
		return 0;
	}
	if (argc != 2) {
		fprintf(stderr, "usage: sporegen FILE >TABLE.h\n");
		return 2;
	}
	FILE *f = fopen(argv[1], "r");
	if (!f) {
		perror(argv[1]);
		return 1;
	}
	char line[256], word[64];
	double number;
	int in_table = 0, at = 0;
	printf("/* Made by sporegen. */\nstruct spore { const char *name; double value; };\n");
	while (fgets(line, sizeof line, f)) {
		at++;
		char *hash = strchr(line, '#');
		if (hash)
			*hash = 0;
		if (sscanf(line, " table %63s", word) == 1) {
			if (in_table)
				printf("\t{0, 0}\n};\n");
			printf("static const struct spore %s[] = {\n", word);
			in_table = 1;
		} else if (sscanf(line, " %63s %lf", word, &number) == 2 && in_table) {
			printf("\t{\"%s\", %g},\n", word, number);
		} else if (line[strspn(line, " \t\r\n")]) {
			fprintf(stderr, "%s:%d: error: neither a table nor an entry\n", argv[1], at);
			return 1;
		}
	}
	if (in_table)
		printf("\t{0, 0}\n};\n");
	return fclose(f) != 0;
}
