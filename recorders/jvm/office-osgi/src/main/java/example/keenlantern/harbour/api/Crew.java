package example.keenlantern.harbour.api;

/** A tug's crew. */
public interface Crew {
    /** The tug's name. */
    String name();
}
