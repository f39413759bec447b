package example.keenlantern.record.junit;

import java.lang.annotation.Documented;
import java.lang.annotation.ElementType;
import java.lang.annotation.Inherited;
import java.lang.annotation.Retention;
import java.lang.annotation.RetentionPolicy;
import java.lang.annotation.Target;
import org.junit.jupiter.api.extension.ExtendWith;

/**
 * Records a test, a class of tests or all that carry this annotation, checks the recording with {@code keenlantern check}, and
 * fails with what was found. What a test starts while it runs is recorded; a test may also have the recorder as a parameter.
 *
 * <p>The command is the one that the system property or environment variable {@code keenlantern.command} ({@code
 * KEENLANTERN_COMMAND}) names, {@code keenlantern} on the path unless given.
 */
@Target({ElementType.TYPE, ElementType.METHOD})
@Retention(RetentionPolicy.RUNTIME)
@Inherited
@Documented
@ExtendWith(RecordedExtension.class)
public @interface Recorded {
    /** The application's name in the recording; the class's unless given. */
    String application() default "";

    /** Findings of this severity or a worse one fail the test: error, warning or note. */
    String failOn() default "error";

    /** The ids of findings that are accepted. */
    String[] accepted() default {};

    /**
     * A contract's file, which the recording is held against: a broken clause fails the test, and findings that the contract accepts do
     * not. It is for the application that {@link #application} names.
     */
    String contract() default "";

    /**
     * One recording of all tests that say so, checked at the end of the run: for a container that several classes of tests share.
     */
    boolean together() default false;
}
