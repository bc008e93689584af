#include "dewcalc.h"
#include <math.h>

/* The Magnus formula over water, with the coefficients of Sonntag (1990). */
static const double a = 17.62, b = 243.12, p0 = 0.6112;

double dewcalc_saturation(double t) { return p0 * exp(a * t / (b + t)); }

double dewcalc_dew_point(double t, double h)
{
	double g = log(h / 100) + a * t / (b + t);
	return b * g / (a - g);
}

double dewcalc_deficit(double t, double h) { return dewcalc_saturation(t) * (1 - h / 100); }
