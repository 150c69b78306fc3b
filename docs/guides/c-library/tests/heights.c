#include "tide.h"

int main(void) { return tide_above(412, 2412) == 2000 ? 0 : 1; }
