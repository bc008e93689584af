/* dewcalc: psychrometrics for glasshouses. Temperatures in degrees Celsius,
 * humidity in percent, pressures in kilopascals. */
#ifndef DEWCALC_H
#define DEWCALC_H
#define DEWCALC_VERSION "@VERSION@"

double dewcalc_saturation(double temperature);                  /* vapour pressure of saturated air */
double dewcalc_dew_point(double temperature, double humidity);  /* where dew begins to form */
double dewcalc_deficit(double temperature, double humidity);    /* how thirsty the air is */
#endif
