#include "frondplot.h"
#include <string.h>

int main(int argc, char **argv)
{
	double values[1000];
	int count = 0;
	if (argc == 2 && strcmp(argv[1], "--version") == 0) {
		printf("frondplot %s\n", VERSION);
		return 0;
	}
	while (count < 1000 && scanf("%lf", &values[count]) == 1)
		count++;
	if (count == 0) {
		fprintf(stderr, "usage: frondplot [TITLE [COLOUR]] <NUMBERS >PLOT.svg\n");
		return 2;
	}
	return frondplot_line(stdout, argc > 1 ? argv[1] : "", argc > 2 ? argv[2] : "fern", values, count) != 0;
}
