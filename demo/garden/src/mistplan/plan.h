#ifndef PLAN_H
#define PLAN_H
#define MOST_READINGS 1000

struct reading { int hour; double temperature, humidity; };

/* Minutes of mist that bring the air to what plants of a stage want, for an
 * hour; or -1 when there is no such stage. */
double mist_minutes(const char *stage, const struct reading *r);
#endif
