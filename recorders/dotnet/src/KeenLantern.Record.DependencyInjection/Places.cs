using System.Globalization;
using KeenLantern.Record.Source;
using Microsoft.Extensions.DependencyInjection;

namespace KeenLantern.Record.DependencyInjection;

/// <summary>Where in the source registrations were made: by the calls in the application's compiled code.</summary>
internal static class Places
{
    private static readonly HashSet<string> Receivers =
    [
        typeof(IServiceCollection).FullName!, typeof(ServiceDescriptor).FullName!, "Microsoft.Extensions.DependencyInjection.IHttpClientBuilder",
    ];

    private static readonly string[] Lifetimes = Enum.GetNames<ServiceLifetime>();

    /// <summary>
    /// Sets the places of registrations. Where several calls may have made one, it is the one that stands between the calls which made the
    /// registrations before and after it; where that says nothing, there is no place.
    /// </summary>
    internal static void Set(List<Node> nodes)
    {
        ILookup<string, RegistrationCall> calls = RegistrationCalls.All("Microsoft.Extensions.", Receivers).Distinct().ToLookup(call => call.Types[0]);
        var open = new Dictionary<Node, List<RegistrationCall>>();
        foreach (IGrouping<(Type, Type?, ServiceLifetime, bool), Node> alike in nodes
            .GroupBy(node => (node.Service, node.Implementation ?? node.Instance?.GetType(), node.Lifetime, node.Key is not null)))
        {
            List<Node> same = [.. alike];
            List<RegistrationCall> may = [.. CallsOf(same[0], calls)];
            for (int n = 0; n < same.Count; n++)
            {
                same[n].At = Factory(same[n]) is { } function && Callers.OfLambda(function) is { } lambda ? lambda
                    : may.Count == 1 ? may[0].Place
                    : may.Count == same.Count ? may[n].Place
                    : null;
                if (same[n].At is null && may.Count > 1)
                {
                    open[same[n]] = may;
                }
            }
        }

        for (int n = 0; n < nodes.Count; n++)
        {
            if (open.TryGetValue(nodes[n], out List<RegistrationCall>? may))
            {
                string? before = n > 0 ? nodes[n - 1].At : null;
                string? after = nodes.Skip(n + 1).FirstOrDefault(node => node.At is not null)?.At;
                nodes[n].At = Between(before, after, may);
            }
        }
    }

    private static string? Between(string? before, string? after, List<RegistrationCall> may)
    {
        (string? file, int from) = Split(before);
        (string? last, int to) = Split(after);
        List<string> places = [.. may.Select(call => call.Place).Where(place =>
        {
            (string? at, int line) = Split(place);
            return (file is not null || last is not null) && (file is null || (at == file && line >= from)) && (last is null || (at == last && line <= to));
        })];
        return places.Count == 1 ? places[0] : null;
    }

    private static (string? File, int Line) Split(string? place) =>
        place?.LastIndexOf(':') is { } colon ? (place[..colon], int.Parse(place.AsSpan(colon + 1), CultureInfo.InvariantCulture)) : (null, 0);

    private static Delegate? Factory(Node node) =>
        node.Descriptor.IsKeyedService ? node.Descriptor.KeyedImplementationFactory : node.Descriptor.ImplementationFactory;

    // Calls that name service and implementation come before those that name one of them, such as AddHttpClient or AddHostedService.
    private static IEnumerable<RegistrationCall> CallsOf(Node node, ILookup<string, RegistrationCall> calls)
    {
        string service = RegistrationCalls.NameOf(node.Service);
        Type? type = node.Implementation ?? node.Instance?.GetType();
        string? implementation = type is null ? null : RegistrationCalls.NameOf(type);
        List<RegistrationCall> exact = [.. calls[service].Where(call => Fits(call, node) && (call.Types.Count == 1
            ? implementation is null || implementation == service || node.Instance is not null
            : implementation is null || call.Types[1] == implementation))];
        return exact.Count > 0 || implementation is null ? exact : calls[implementation].Where(call => Fits(call, node) && LifetimeIn(call.Method) is null);
    }

    private static bool Fits(RegistrationCall call, Node node) =>
        (LifetimeIn(call.Method) is not { } lifetime || lifetime == node.Lifetime.ToString()) &&
        (LifetimeIn(call.Method) is null || call.Method.Contains("Keyed", StringComparison.Ordinal) == (node.Key is not null));

    private static string? LifetimeIn(string method) => Array.Find(Lifetimes, word => method.Contains(word, StringComparison.Ordinal));
}
