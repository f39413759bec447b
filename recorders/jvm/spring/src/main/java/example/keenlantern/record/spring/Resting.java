package example.keenlantern.record.spring;

import org.springframework.beans.factory.config.BeanPostProcessor;

/** A post-processor that is put away while there is nothing to see, so that what is built for requests does not pass through it. */
interface Resting extends BeanPostProcessor {
    /**
     * Stands in the place of one that is put away: a factory that has fewer post-processors than at its start warns of each bean that
     * is built.
     */
    record Absent(Resting of) implements BeanPostProcessor {}
}
