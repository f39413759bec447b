package example.keenlantern.office;

/** The water. */
interface TideSource {
    double height(String gauge);
}
