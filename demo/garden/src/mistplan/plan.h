#ifndef PLAN_H
#define PLAN_H
#ifndef MOST_READINGS
#define MOST_READINGS 1000
#endif

struct reading { int hour; double temperature, humidity; };

/* Minutes of mist that bring the air to what plants of a stage want, for an
 * hour; or -1 when there is no such stage. */
double mist_minutes(const char *stage, const struct reading *r);
#endif
