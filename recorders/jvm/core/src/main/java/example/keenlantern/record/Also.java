package example.keenlantern.record;

/**
 * A further service and key that an instance answers to.
 *
 * @param service the service's name
 * @param key the key, null for none
 */
public record Also(String service, String key) {}
