package example.keenlantern.record;

/**
 * What an instance was given while it was built.
 *
 * @param inst the instance's id; 0: one that is not recorded
 * @param site where it goes, null where that is not known
 * @param service what was asked for, null where that is what the registration needs
 * @param key the key that was asked for, null for none
 * @param via the registration asked, where it handed out another one's instance; 0: none
 * @param kept false: it was only read
 * @param unknown something was given, and not seen
 */
public record Given(long inst, String site, String service, String key, long via, boolean kept, boolean unknown) {
    /** An instance that is kept, and nothing more said about it. */
    public static Given of(long inst) {
        return new Given(inst, null, null, null, 0, true, false);
    }

    /** An instance that is kept, and what was asked for. */
    public static Given of(long inst, String site, String service, String key) {
        return new Given(inst, site, service, key, 0, true, false);
    }

    Given knownAs(long id) {
        return id == inst ? this : new Given(id, site, service, key, via, kept, unknown);
    }

    boolean plain() {
        return site == null && service == null && key == null && via == 0 && kept && !unknown;
    }
}
