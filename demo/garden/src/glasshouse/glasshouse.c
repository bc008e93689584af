/* glasshouse: looks after a glasshouse for a day. It has mistplan plan the
 * mist, and keeps a book of what was planned. */
#define _POSIX_C_SOURCE 200809L
#include <dewcalc.h>
#include <loamdb.h>
#include <stdio.h>
#include <string.h>

int main(int argc, char **argv)
{
	if (argc == 2 && strcmp(argv[1], "--version") == 0) {
		printf("glasshouse %s, with dewcalc %s\n", VERSION, DEWCALC_VERSION);
		return 0;
	}
	if (argc != 3 || strcmp(argv[1], "day") != 0) {
		fprintf(stderr, "usage: glasshouse day BOOK\n");
		return 2;
	}
	FILE *plan = popen("mistplan", "r");
	if (!plan) {
		perror("mistplan");
		return 1;
	}
	char line[256], minutes[32] = "";
	int hours = 0;
	while (fgets(line, sizeof line, plan)) {
		hours += strstr(line, "mist ") != 0;
		sscanf(line, "%31s minutes in all", minutes);
	}
	if (pclose(plan) != 0 || hours == 0) {
		fprintf(stderr, "glasshouse: mistplan failed\n");
		return 1;
	}
	if (loamdb_put(argv[2], "mist", minutes) != 0) {
		perror(argv[2]);
		return 1;
	}
	printf("%d hours planned, %s minutes of mist, written to %s\n", hours, minutes, argv[2]);
#ifdef ALARM
	printf("alarm above a deficit of %.2f kPa\n", dewcalc_deficit(30, 40));
#endif
	return 0;
}
