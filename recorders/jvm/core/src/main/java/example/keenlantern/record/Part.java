package example.keenlantern.record;

/** The part of an application in which a layer applies. */
public sealed interface Part {
    /**
     * A container and those inside it.
     *
     * @param container its id
     */
    record InContainer(long container) implements Part {}

    /**
     * A module.
     *
     * @param module its name
     */
    record InModule(String module) implements Part {}

    /**
     * Scopes of a kind.
     *
     * @param kind such as "request"
     */
    record InScopes(String kind) implements Part {}
}
