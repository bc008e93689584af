/* mistplan: plans misting runs for a glasshouse from humidity readings. */
#include "plan.h"
#include <dewcalc.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#ifdef WITH_LOAM
#include <loamdb.h>
#endif
#ifdef WITH_PLOTS
#include <frondplot.h>
#endif

static int read_readings(const char *dir, struct reading *r)
{
	char name[4096], line[256];
	int count = 0;
	snprintf(name, sizeof name, "%s/readings.csv", dir);
	FILE *f = fopen(name, "r");
	if (!f) {
		perror(name);
		exit(1);
	}
	while (count < MOST_READINGS && fgets(line, sizeof line, f))
		if (sscanf(line, "%d,%lf,%lf", &r[count].hour, &r[count].temperature, &r[count].humidity) == 3)
			r[count++].temperature += CALIBRATION;
	fclose(f);
	return count;
}

/* The stage to plan for, from the configuration file: a line "stage = NAME". */
static const char *configured_stage(void)
{
	static char stage[64] = "leafing";
	char line[256];
	FILE *f = fopen(CONFIG, "r");
	while (f && fgets(line, sizeof line, f))
		sscanf(line, " stage = %63s", stage);
	if (f)
		fclose(f);
	return stage;
}

static int store(const char *file, double total)
{
	char text[32];
	snprintf(text, sizeof text, "%.1f", total);
#ifdef WITH_LOAM
	return loamdb_put(file, "minutes", text);
#else
	FILE *f = fopen(file, "w");
	return !f || fprintf(f, "%s\n", text) < 0 || fclose(f) != 0 ? -1 : 0;
#endif
}

int main(int argc, char **argv)
{
	const char *dir = getenv("MISTPLAN_DATA"), *stage = configured_stage(), *file = 0, *plot = 0;
	for (int i = 1; i < argc; i++) {
		if (strcmp(argv[i], "--version") == 0) {
			printf("mistplan @VERSION@ (storage: %s, plots: %s, calibration: %+.1f)\n",
#ifdef WITH_LOAM
			       "loam",
#else
			       "flat",
#endif
#ifdef WITH_PLOTS
			       "yes",
#else
			       "no",
#endif
			       CALIBRATION);
			return 0;
		}
		if (i + 1 < argc && strcmp(argv[i], "--data") == 0)
			dir = argv[++i];
		else if (i + 1 < argc && strcmp(argv[i], "--stage") == 0)
			stage = argv[++i];
		else if (i + 1 < argc && strcmp(argv[i], "--store") == 0)
			file = argv[++i];
		else if (i + 1 < argc && strcmp(argv[i], "--plot") == 0)
			plot = argv[++i];
		else {
			fprintf(stderr, "usage: mistplan [--data DIR] [--stage STAGE] [--store FILE] [--plot FILE]\n");
			return 2;
		}
	}
	if (!dir) {
		fprintf(stderr, "mistplan: no readings; set MISTPLAN_DATA or use --data\n");
		return 1;
	}
	struct reading r[MOST_READINGS];
	double minutes[MOST_READINGS], total = 0;
	int count = read_readings(dir, r);
	for (int i = 0; i < count; i++) {
		minutes[i] = mist_minutes(stage, &r[i]);
		if (minutes[i] < 0) {
			fprintf(stderr, "mistplan: no stage %s\n", stage);
			return 1;
		}
		total += minutes[i];
		printf("%02d:00  %4.1f C  dew point %4.1f C  mist %3.0f min\n", r[i].hour, r[i].temperature,
		       dewcalc_dew_point(r[i].temperature, r[i].humidity), minutes[i]);
	}
	printf("%.0f minutes in all\n", total);
	if (file && store(file, total) != 0) {
		perror(file);
		return 1;
	}
	if (plot) {
#ifdef WITH_PLOTS
		FILE *f = fopen(plot, "w");
		if (!f || frondplot_line(f, "Mist, minutes per hour", "dew", minutes, count) != 0 || fclose(f) != 0) {
			perror(plot);
			return 1;
		}
#else
		fprintf(stderr, "mistplan: built without plots\n");
		return 1;
#endif
	}
	return 0;
}
