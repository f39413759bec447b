package example.keenlantern.record;

/**
 * What a recorder has done so far.
 *
 * @param events events written down
 * @param lost events dropped for want of memory
 * @param bytes bytes of lines
 * @param delivered batches accepted by the service, or written to the file
 */
public record Totals(long events, long lost, long bytes, long delivered) {}
