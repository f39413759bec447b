package example.keenlantern.record.spring;

/**
 * Something that was asked for through a provider.
 *
 * @param consumer who asked, null where that is not known
 * @param site the injection point
 */
record Asked(Bean consumer, Site site) {}
