using System.Reflection;
using Microsoft.Extensions.DependencyInjection;

namespace KeenLantern.Record.DependencyInjection;

/// <summary>A registration, or a closed form of one that is open.</summary>
internal sealed class Node
{
    // What a pool of database contexts registers beside each of them.
    private const string Lease = "Microsoft.EntityFrameworkCore.Internal.IScopedDbContextLease`1";

    internal Node(ServiceDescriptor descriptor, Type service, Type? implementation, Node? template = null)
    {
        Descriptor = descriptor;
        Service = service;
        Implementation = implementation;
        Template = template;
        Key = descriptor.IsKeyedService ? descriptor.ServiceKey : null;
    }

    internal ServiceDescriptor Descriptor { get; }

    internal Type Service { get; }

    /// <summary>The type that the container constructs; null for a factory or an instance.</summary>
    internal Type? Implementation { get; }

    /// <summary>The open registration that this is a closed form of, which the container builds by itself.</summary>
    internal Node? Template { get; }

    /// <summary>Its key, which may be any key; null for none.</summary>
    internal object? Key { get; }

    internal bool AnyKey => Key is not null && ReferenceEquals(Key, KeyedService.AnyKey);

    internal bool Open => Service.IsGenericTypeDefinition;

    internal ServiceLifetime Lifetime => Descriptor.Lifetime;

    /// <summary>Whether its instances are leased from a pool, as those of AddDbContextPool are.</summary>
    internal bool Pooled { get; set; }

    /// <summary>Whether it is a lease of such a pool: a part of how the pool works, whose instances are not recorded.</summary>
    internal bool IsLease => Service.IsConstructedGenericType && Service.GetGenericTypeDefinition().FullName == Lease;

    internal long Reg { get; set; }

    /// <summary>Whether calls on its instances are recorded.</summary>
    internal bool Uses { get; set; }

    /// <summary>The instance of a singleton, once it is built.</summary>
    internal Single? Single { get; set; }

    /// <summary>The constructor that is chosen, once it is, and where any key has the same.</summary>
    internal Choice? Choice { get; set; }

    /// <summary>The place in the source at which it is registered.</summary>
    internal string? At { get; set; }

    /// <summary>The registration that it decorates: known from its constructor, or when its factory has run.</summary>
    internal long Wraps { get; set; }

    /// <summary>The registration that its factory hands on an instance of; 0: none, or it also builds instances, or hands on others.</summary>
    internal long Alias { get; set; }

    /// <summary>Whether its factory has built an instance, or has handed on those of several registrations.</summary>
    internal bool NoAlias { get; set; }

    internal object? Instance => Descriptor.IsKeyedService ? Descriptor.KeyedImplementationInstance : Descriptor.ImplementationInstance;

    /// <summary>Whether the type declares that its instances are to be disposed; null: its instances say so.</summary>
    internal bool? Disposable =>
        Implementation is null ? null
        : typeof(IDisposable).IsAssignableFrom(Implementation) || typeof(IAsyncDisposable).IsAssignableFrom(Implementation);
}

/// <summary>The constructor that the container chooses, and where its arguments come from.</summary>
internal sealed class Choice(ConstructorInfo constructor, Argument[] arguments)
{
    private readonly ConstructorInvoker invoker = ConstructorInvoker.Create(constructor);

    internal ConstructorInfo Constructor => constructor;

    internal Argument[] Arguments => arguments;

    internal object Invoke(Span<object?> values) => invoker.Invoke(values);
}

internal enum Source
{
    /// <summary>A registration, or all of a service.</summary>
    Service,

    /// <summary>The container itself, or a part of it.</summary>
    Container,

    /// <summary>The key that was asked for.</summary>
    Key,

    /// <summary>The parameter's default.</summary>
    Default,
}

/// <summary>An argument of a constructor.</summary>
/// <param name="Parameter">The parameter.</param>
/// <param name="Source">Where it comes from.</param>
/// <param name="Key">The key that is asked for; null for none.</param>
/// <param name="Default">The parameter's default.</param>
/// <param name="Target">The registration that answers; null for none.</param>
/// <param name="Many">All of a service are given.</param>
internal sealed record Argument(ParameterInfo Parameter, Source Source, object? Key = null, object? Default = null, Node? Target = null, bool Many = false)
{
    internal Type Type { get; } = Parameter.ParameterType;
}

/// <summary>The instance of a singleton.</summary>
internal sealed record Single(object Instance, Identity Identity);

/// <summary>What of the container itself is asked for.</summary>
internal enum Part
{
    /// <summary>None of it.</summary>
    None,

    /// <summary>The provider.</summary>
    Provider,

    /// <summary>What makes scopes.</summary>
    Scopes,
}

/// <summary>The plan for a request for a service.</summary>
/// <param name="Name">The service's name.</param>
/// <param name="Part">The part of the container that is asked for.</param>
/// <param name="Target">The registration that answers; null for none.</param>
/// <param name="Many">All of a service are asked for.</param>
/// <param name="Refusal">Why the container refuses it; null where it does not.</param>
/// <param name="NeedsScope">The container refuses it from its root.</param>
internal sealed record Request(string Name, Part Part, Node? Target, bool Many, Refusal? Refusal, bool NeedsScope);

/// <summary>Why the container refuses to build a service.</summary>
internal sealed record Refusal(FailWhy Why, Type Service, object? Key, IReadOnlyList<Type> Path);
