package example.keenlantern.record;

/**
 * What a registration asks for.
 *
 * @param service the service's name
 * @param site where it goes, such as a parameter's name; null where that is not known
 * @param key the key, null for none
 * @param how how it is given, null where that is not known
 * @param all all there are of the service are asked for
 * @param optional there may be none
 * @param lazy it is asked for later, through a provider or a placeholder
 */
public record Need(
        String service, String site, String key, Event.How how, boolean all, boolean optional, boolean lazy) {
    /** One that is required, by constructor. */
    public static Need of(String service) {
        return new Need(service, null, null, null, false, false, false);
    }
}
