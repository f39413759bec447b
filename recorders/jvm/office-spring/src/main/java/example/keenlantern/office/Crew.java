package example.keenlantern.office;

/** A tug's crew. */
interface Crew {
    String name();
}
