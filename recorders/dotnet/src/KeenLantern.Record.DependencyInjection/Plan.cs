using System.Collections.Concurrent;
using System.Reflection;
using Microsoft.Extensions.DependencyInjection;

namespace KeenLantern.Record.DependencyInjection;

/// <summary>
/// What the container will do, by its documented rules: the last registration answers; a closed registration comes before an open
/// one, and a key before any key; of several constructors the longest one whose parameters can all be had is chosen.
/// </summary>
internal sealed class Plan
{
    private const int MostRemembered = 1 << 14; // keys that are answered by any-key registrations may come from requests

    private static readonly Type[] Parts =
        [typeof(IServiceProvider), typeof(IServiceScopeFactory), typeof(IServiceProviderIsService), typeof(IServiceProviderIsKeyedService)];

    private readonly Dictionary<(Type, object?), List<Node>> nodes = [];
    private readonly ConcurrentDictionary<(Node, Type), Node?> closed = new();
    private readonly ConcurrentDictionary<(Node, object?), Choice?> choices = new();
    private readonly ConcurrentDictionary<(Type, object?), Refusal?> refusals = new();
    private readonly ConcurrentDictionary<Type, Request> requests = new(); // without a key
    private readonly bool validateScopes;

    internal Plan(IEnumerable<ServiceDescriptor> descriptors, bool validateScopes)
    {
        this.validateScopes = validateScopes;
        foreach (ServiceDescriptor descriptor in descriptors)
        {
            Type? implementation = descriptor.IsKeyedService ? descriptor.KeyedImplementationType : descriptor.ImplementationType;
            var node = new Node(descriptor, descriptor.ServiceType, implementation);
            All.Add(node);
            if (!nodes.TryGetValue((node.Service, node.Key), out List<Node>? same))
            {
                nodes[(node.Service, node.Key)] = same = [];
            }

            same.Add(node);
        }

        // A pool of database contexts registers a lease for its context beside it.
        foreach (Node lease in All.Where(node => node.IsLease))
        {
            foreach (Node node in nodes.GetValueOrDefault((lease.Service.GenericTypeArguments[0], null)) ?? [])
            {
                node.Pooled = node.Descriptor.ImplementationFactory is not null;
            }
        }
    }

    /// <summary>In the order of the descriptors.</summary>
    internal List<Node> All { get; } = [];

    internal static bool IsPart(Type service) => Array.IndexOf(Parts, service) >= 0;

    internal static bool IsMany(Type service) => service.IsConstructedGenericType && service.GetGenericTypeDefinition() == typeof(IEnumerable<>);

    /// <summary>Returns the registration that answers for a service; null where there is none.</summary>
    internal Node? Answers(Type service, object? key)
    {
        if (nodes.TryGetValue((service, key), out List<Node>? exact) ||
            (key is not null && nodes.TryGetValue((service, KeyedService.AnyKey), out exact)))
        {
            return exact[^1];
        }

        if (!service.IsConstructedGenericType)
        {
            return null;
        }

        Type open = service.GetGenericTypeDefinition();
        return nodes.TryGetValue((open, key), out List<Node>? templates) ||
            (key is not null && nodes.TryGetValue((open, KeyedService.AnyKey), out templates))
            ? Closed(templates[^1], service)
            : null;
    }

    private Node? Closed(Node template, Type service) => closed.GetOrAdd((template, service), static at =>
    {
        (Node template, Type service) = at;
        try
        {
            return new Node(template.Descriptor, service, template.Implementation!.MakeGenericType(service.GenericTypeArguments), template);
        }
        catch (ArgumentException)
        {
            return null; // a constraint
        }
    });

    // What answers when all of a service is asked for.
    private IEnumerable<Node> Many(Type service, object? key)
    {
        IEnumerable<Node> found = nodes.GetValueOrDefault((service, key)) ?? [];
        if (service.IsConstructedGenericType && nodes.TryGetValue((service.GetGenericTypeDefinition(), key), out List<Node>? templates))
        {
            found = found.Concat(templates.Select(template => Closed(template, service)).OfType<Node>());
        }

        return found;
    }

    /// <summary>Returns the closed form of an open registration that an instance is of, among those that answer when all of a service is asked for.</summary>
    internal Node? FormIn(Type service, object? key, Type type) =>
        service.IsConstructedGenericType ? Many(service, key).FirstOrDefault(node => node.Template is not null && node.Implementation == type) : null;

    /// <summary>Whether a service has registrations with keys.</summary>
    internal bool HasKeys(Type service) => All.Exists(node => node.Service == service && node.Key is not null);

    private bool Has(Type service, object? key) =>
        (key is null && IsPart(service)) || IsMany(service) || Answers(service, key) is not null;

    /// <summary>Returns the constructor that the container chooses; null where it refuses.</summary>
    internal Choice? Choose(Node node, object? key)
    {
        if (node.Choice is { } only)
        {
            return only;
        }

        (Node, object?) at = (node, node.Key is null ? null : key);
        if (choices.TryGetValue(at, out Choice? known))
        {
            return known;
        }

        Choice? chosen = Chosen(at.Item1, at.Item2);
        if (!node.AnyKey)
        {
            node.Choice = chosen;
        }

        return choices.Count < MostRemembered ? choices.GetOrAdd(at, chosen) : chosen;
    }

    private Choice? Chosen(Node node, object? key)
    {
        ConstructorInfo[] constructors = node.Implementation!.GetConstructors();
        Array.Sort(constructors, (a, b) => b.GetParameters().Length.CompareTo(a.GetParameters().Length));
        Choice? best = null;
        HashSet<Type>? types = null;
        foreach (ConstructorInfo constructor in constructors)
        {
            Argument[]? arguments = Arguments(constructor, key);
            if (arguments is null)
            {
                continue;
            }

            if (best is null)
            {
                best = new Choice(constructor, arguments);
                continue;
            }

            types ??= [.. best.Arguments.Select(a => a.Type)];
            if (!types.IsSupersetOf(arguments.Select(a => a.Type)))
            {
                return null; // ambiguous
            }
        }

        return best;
    }

    private Argument[]? Arguments(ConstructorInfo constructor, object? key)
    {
        ParameterInfo[] parameters = constructor.GetParameters();
        var arguments = new Argument[parameters.Length];
        for (int n = 0; n < parameters.Length; n++)
        {
            ParameterInfo parameter = parameters[n];
            object? asked = null;
            if (key is not null && parameter.IsDefined(typeof(ServiceKeyAttribute), inherit: true))
            {
                if (!parameter.ParameterType.IsInstanceOfType(key) && key != KeyedService.AnyKey)
                {
                    return null;
                }

                arguments[n] = new Argument(parameter, Source.Key);
                continue;
            }

            if (parameter.GetCustomAttribute<FromKeyedServicesAttribute>() is { } keyed)
            {
                asked = Asked(keyed, key);
            }

            if (asked is null && IsPart(parameter.ParameterType))
            {
                arguments[n] = new Argument(parameter, Source.Container);
            }
            else if (Has(parameter.ParameterType, asked))
            {
                arguments[n] = Service(parameter, asked);
            }
            else if (parameter.HasDefaultValue)
            {
                arguments[n] = new Argument(parameter, Source.Default, Default: DefaultOf(parameter));
            }
            else
            {
                return null;
            }
        }

        return arguments;
    }

    private Argument Service(ParameterInfo parameter, object? key)
    {
        Node? target = Answers(parameter.ParameterType, key);
        return new Argument(parameter, Source.Service, key, Target: target, Many: target is null && IsMany(parameter.ParameterType));
    }

    /// <summary>Returns the plan for a request. Plans for registered services without a key are cached, up to a bound.</summary>
    internal Request Requested(Type service, object? key)
    {
        if (key is null && requests.TryGetValue(service, out Request? known))
        {
            return known;
        }

        Node? target = Answers(service, key);
        Part part = key is not null ? Part.None
            : service == typeof(IServiceProvider) ? Part.Provider
            : service == typeof(IServiceScopeFactory) ? Part.Scopes
            : Part.None;
        var request = new Request(TypeNames.Of(service), part, target, target is null && IsMany(service), Refuses(service, key), NeedsScope(service, key));
        return key is null && Has(service, null) && requests.Count < MostRemembered ? requests.GetOrAdd(service, request) : request;
    }

    /// <summary>Whether a type may be given a provider, or what makes scopes, by its constructor.</summary>
    internal static bool TakesContainer(Node node) => node.Implementation is { } type && Array.Exists(
        type.GetConstructors(),
        constructor => Array.Exists(constructor.GetParameters(), p => p.ParameterType == typeof(IServiceProvider) || p.ParameterType == typeof(IServiceScopeFactory)));

    private static object? Asked(FromKeyedServicesAttribute attribute, object? key)
    {
#if NET10_0_OR_GREATER
        return attribute.LookupMode switch
        {
            ServiceKeyLookupMode.InheritKey => key,
            ServiceKeyLookupMode.NullKey => null,
            _ => attribute.Key,
        };
#else
        _ = key;
        return attribute.Key;
#endif
    }

    private static object? DefaultOf(ParameterInfo parameter)
    {
        object? value = parameter.DefaultValue;
        Type type = parameter.ParameterType;
        if (value is null && type.IsValueType && Nullable.GetUnderlyingType(type) is null)
        {
            return System.Runtime.CompilerServices.RuntimeHelpers.GetUninitializedObject(type); // as for "= default"
        }

        return value is not null && Nullable.GetUnderlyingType(type) is { IsEnum: true } named ? Enum.ToObject(named, value) : value;
    }

    /// <summary>Returns why the container refuses to build a service, null where it does not, or has nothing that answers.</summary>
    internal Refusal? Refuses(Type service, object? key)
    {
        if (refusals.TryGetValue((service, key), out Refusal? known))
        {
            return known;
        }

        Refusal? found = Walk(service, key, [], [], null);
        // The service and the key may come from requests: only registered ones are kept, up to a bound.
        return Has(service, key) && refusals.Count < MostRemembered ? refusals.GetOrAdd((service, key), found) : found;
    }

    // Sound holds the nodes that were walked to their end, each apart within singletons: they are not walked again, so that a walk is
    // linear in the registrations that it reaches.
    private Refusal? Walk(Type service, object? key, List<Node> path, HashSet<(Node, object?, bool)> sound, Node? singleton)
    {
        if (Answers(service, key) is { } node)
        {
            return Walk(node, key, path, sound, singleton);
        }

        if (IsMany(service))
        {
            foreach (Node one in Many(service.GenericTypeArguments[0], key))
            {
                if (Walk(one, key, path, sound, singleton) is { } refusal)
                {
                    return refusal;
                }
            }
        }

        return null;
    }

    private Refusal? Walk(Node node, object? key, List<Node> path, HashSet<(Node, object?, bool)> sound, Node? singleton)
    {
        if (sound.Contains((node, key, singleton is not null)))
        {
            return null;
        }

        if (validateScopes && singleton is not null && node.Lifetime == ServiceLifetime.Scoped)
        {
            return Refused(FailWhy.Lifetime, node.Service, key, path, node);
        }

        if (node.Implementation is null || node.Open)
        {
            return null;
        }

        if (path.Contains(node))
        {
            return Refused(FailWhy.Cycle, node.Service, key, path, node);
        }

        path.Add(node);
        if (Choose(node, key) is not { } choice)
        {
            return Lacking(node, key, path);
        }

        Node? around = node.Lifetime == ServiceLifetime.Singleton ? node : singleton;
        foreach (Argument argument in choice.Arguments.Where(a => a.Source == Source.Service))
        {
            if (Walk(argument.Type, argument.Key, path, sound, around) is { } refusal)
            {
                return refusal;
            }
        }

        path.RemoveAt(path.Count - 1);
        sound.Add((node, key, singleton is not null));
        return null;
    }

    private static Refusal Refused(FailWhy why, Type service, object? key, List<Node> path, Node? last) =>
        new(why, service, key, [.. path.Select(n => n.Service), .. last is null ? [] : new[] { last.Service }]);

    // With one constructor, it is a parameter that is missing; with several, none of them or more than one will do.
    private Refusal Lacking(Node node, object? key, List<Node> path)
    {
        ConstructorInfo[] constructors = node.Implementation!.GetConstructors();
        if (constructors.Length != 1)
        {
            return Refused(FailWhy.Constructors, node.Service, key, path, null);
        }

        foreach (ParameterInfo parameter in constructors[0].GetParameters())
        {
            object? asked = parameter.GetCustomAttribute<FromKeyedServicesAttribute>() is { } keyed ? Asked(keyed, key) : null;
            if (!Has(parameter.ParameterType, asked) && !parameter.HasDefaultValue)
            {
                return Refused(FailWhy.Missing, parameter.ParameterType, asked, path, null);
            }
        }

        return Refused(FailWhy.Constructors, node.Service, key, path, null);
    }

    /// <summary>Whether the container refuses to build a service from its root where scopes are validated.</summary>
    internal bool NeedsScope(Type service, object? key) => validateScopes && NeedsScope(service, key, []);

    private bool NeedsScope(Type service, object? key, HashSet<Node> seen)
    {
        IEnumerable<Node> found = Answers(service, key) is { } answers ? [answers]
            : IsMany(service) ? Many(service.GenericTypeArguments[0], key)
            : [];
        return found.Any(node => node.Lifetime switch
        {
            ServiceLifetime.Scoped => true,
            ServiceLifetime.Singleton => false,
            _ => node.Implementation is not null && seen.Add(node) && Choose(node, key) is { } choice &&
                choice.Arguments.Any(a => a.Source == Source.Service && NeedsScope(a.Type, a.Key, seen)),
        });
    }
}
