#include "tide.h"

int tide_above(int datum, int reading) { return reading - datum; }
