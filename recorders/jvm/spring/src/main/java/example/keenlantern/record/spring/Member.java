package example.keenlantern.record.spring;

import java.lang.reflect.Field;

/**
 * What is filled in after construction.
 *
 * @param field the field, null for a method's parameter or a property
 * @param site what is asked for
 * @param ref the name of the bean it refers to, null for none
 */
record Member(Field field, Site site, String ref) {}
