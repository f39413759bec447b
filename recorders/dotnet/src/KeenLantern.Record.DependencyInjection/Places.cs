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

    /// <summary>Sets the places of registrations, as far as they are known.</summary>
    internal static void Set(List<Node> nodes)
    {
        ILookup<string, RegistrationCall> calls = RegistrationCalls.All("Microsoft.Extensions.", Receivers).Distinct().ToLookup(call => call.Types[0]);
        Dictionary<(Type, Type?, ServiceLifetime, bool), List<RegistrationCall>> may = [];
        string?[] places = RegistrationCalls.PlacesOf([.. nodes.Select(node =>
        {
            if (Factory(node) is { } function && Callers.OfLambda(function) is { } lambda)
            {
                return (lambda, []);
            }

            (Type, Type?, ServiceLifetime, bool) alike = (node.Service, node.Implementation ?? node.Instance?.GetType(), node.Lifetime, node.Key is not null);
            if (!may.TryGetValue(alike, out List<RegistrationCall>? calling))
            {
                may[alike] = calling = [.. CallsOf(node, calls)];
            }

            return ((string?)null, calling);
        })]);
        for (int n = 0; n < places.Length; n++)
        {
            nodes[n].At = places[n];
        }
    }

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
