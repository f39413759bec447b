/**
 * Records instance creation, sharing and disposal across scopes of a running application, for Keen Lantern.
 *
 * <pre>{@code
 * try (Recorder recorder = Recorder.forApplication("harbour-office").service("http://lantern:7460").start()) {
 *     …
 * }
 * }</pre>
 *
 * Adapters report to a recorder what their containers do; {@link example.keenlantern.record.Wiring} is for applications without one.
 */
package example.keenlantern.record;
