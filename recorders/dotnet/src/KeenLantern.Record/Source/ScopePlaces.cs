using System.Collections.Concurrent;

namespace KeenLantern.Record.Source;

/// <summary>
/// Where scopes are opened. A walk over the stack takes some ten µs: of each consumer that opens scopes, the first 256 are walked, and then
/// every sixteenth. The others have no place.
/// </summary>
internal sealed class ScopePlaces
{
    private readonly ConcurrentDictionary<object, Opener> openers = new();
    private readonly Opener unknown = new();

    private sealed class Opener
    {
        private uint opened;

        internal string? Place() => Interlocked.Increment(ref opened) is var times && (times <= 256 || times % 16 == 0) ? Callers.Here() : null;
    }

    /// <summary>Returns the place at which a scope is being opened; null where it is not known.</summary>
    /// <param name="consumer">What opens it; null: not known.</param>
    internal string? Of(object? consumer) => (consumer is null ? unknown : openers.GetOrAdd(consumer, static _ => new Opener())).Place();
}
