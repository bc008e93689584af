#include "dewcalc.h"
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

int main(int argc, char **argv)
{
	if (argc == 2 && strcmp(argv[1], "--version") == 0) {
		printf("dewcalc %s\n", DEWCALC_VERSION);
		return 0;
	}
	if (argc != 3) {
		fprintf(stderr, "usage: dewcalc TEMPERATURE HUMIDITY\n");
		return 2;
	}
	double t = atof(argv[1]), h = atof(argv[2]);
	printf("dew point %.1f C, deficit %.2f kPa\n", dewcalc_dew_point(t, h), dewcalc_deficit(t, h));
	return 0;
}
