package example.keenlantern.record.spring;

import java.util.Set;

/**
 * Something that was asked for through a provider.
 *
 * @param consumer who asked, null where that is not known
 * @param site the injection point
 * @param names the beans that may answer
 */
record Asked(Bean consumer, Site site, Set<String> names) {}
