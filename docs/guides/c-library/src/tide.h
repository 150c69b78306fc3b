/* Height above a station's datum, in millimetres. */
int tide_above(int datum, int reading);
