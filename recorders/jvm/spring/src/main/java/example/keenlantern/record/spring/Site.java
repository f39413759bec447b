package example.keenlantern.record.spring;

import example.keenlantern.record.Event;
import example.keenlantern.record.Need;
import org.springframework.core.ResolvableType;

/**
 * An injection point.
 *
 * @param name the parameter's, field's or property's, null where it is not known
 * @param service what is asked for
 * @param key the qualifier, or the name where that decided; null for none
 * @param type what is asked for, without what it is wrapped in
 * @param how how it is given
 * @param value it is a value, and no bean
 */
record Site(
        String name,
        String service,
        String key,
        ResolvableType type,
        Event.How how,
        boolean all,
        boolean optional,
        boolean lazy,
        boolean value) {
    Need need() {
        return new Need(service, name, key, how, all, optional, lazy);
    }
}
