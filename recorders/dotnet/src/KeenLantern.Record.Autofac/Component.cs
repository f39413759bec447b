using System.Reflection;
using Autofac;
using Autofac.Core;
using Autofac.Core.Activators.ProvidedInstance;
using Autofac.Core.Activators.Reflection;
using Autofac.Core.Lifetime;
using Autofac.Features.AttributeFilters;
using KeenLantern.Record.Source;

namespace KeenLantern.Record.Autofac;

/// <summary>What building a component does with what it resolves.</summary>
internal enum Passes
{
    /// <summary>An instance of the component is given it.</summary>
    Nothing,

    /// <summary>It is handed on: a lazy or described instance.</summary>
    On,

    /// <summary>It is handed on as a list.</summary>
    AsList,

    /// <summary>It lives in a separate scope, which the consumer ends.</summary>
    Owned,
}

/// <summary>A registration, or a decorator as it decorates one registration.</summary>
internal sealed class Component
{
    private static readonly HashSet<Type> Lists =
    [
        typeof(IEnumerable<>), typeof(IList<>), typeof(ICollection<>), typeof(IReadOnlyList<>), typeof(IReadOnlyCollection<>),
    ];

    internal Component(IComponentRegistration registration, Component? decorated = null)
    {
        Registration = registration;
        Decorated = decorated;
        Names = decorated?.Names ?? [.. registration.Services.Select(NameOf).OfType<Also>().Distinct()];
        Type? service = registration.Services.OfType<IServiceWithType>().FirstOrDefault()?.ServiceType;
        Passes = decorated is not null || service is null ? Passes.Nothing : PassesOf(service, registration);
        IsOwn = Names.Count > 0 && Passes == Passes.Nothing && !IsPart(service) && !IsPart(registration.Activator.LimitType);
    }

    internal IComponentRegistration Registration { get; }

    /// <summary>The component that it decorates; null: it is no decorator.</summary>
    internal Component? Decorated { get; }

    /// <summary>The services that it answers for. The first one is its name.</summary>
    internal IReadOnlyList<Also> Names { get; }

    internal Passes Passes { get; }

    /// <summary>Whether it is recorded: the container's own parts are not.</summary>
    internal bool IsOwn { get; }

    internal long Reg { get; set; }

    /// <summary>The place in the source at which it is registered.</summary>
    internal string? At { get; set; }

    /// <summary>The registration whose instance its factory hands on; 0 for none.</summary>
    internal long Alias { get; set; }

    internal bool NoAlias { get; set; }

    /// <summary>What it decorates, where a factory does so.</summary>
    internal long Wraps { get; set; }

    internal bool IsFactory => Registration.Activator is not (ReflectionActivator or ProvidedInstanceActivator);

    internal bool IsInstance => Registration.Activator is ProvidedInstanceActivator;

    internal bool IsInternal => Callers.IsFramework(Registration.Activator.LimitType.Assembly);

    internal Lifetime Lifetime => Decorated is not null ? Decorated.Lifetime
        : IsInstance ? Lifetime.External
        : Registration.Sharing == InstanceSharing.None ? Lifetime.Transient
        : Registration.Lifetime is RootScopeLifetime ? Lifetime.Singleton
        : Lifetime.Scoped;

    private static bool IsContainer(Type type) => typeof(IComponentContext).IsAssignableFrom(type) || type == typeof(IServiceProvider) ||
        type.FullName == "Microsoft.Extensions.DependencyInjection.IServiceScopeFactory";

    // Parts of the container, and of what makes it the framework's provider.
    private static bool IsPart(Type? type) => type?.Assembly.GetName().Name is { } name && (name == "Autofac" || name.StartsWith("Autofac.", StringComparison.Ordinal));

    /// <summary>Returns a service's name in a trace; null for a service that is not the application's.</summary>
    internal static Also? NameOf(Service service) => service switch
    {
        KeyedService keyed => new Also(TypeNames.Of(keyed.ServiceType), KeyText(keyed.ServiceKey)),
        TypedService typed => new Also(TypeNames.Of(typed.ServiceType)),
        _ => null,
    };

    // Keys are numbered by the recorder where they are objects: a container's keys are, for the most part, texts and values.
    private static string KeyText(object key) => KeyTexts.Text(key);

    private static readonly Keys KeyTexts = new();

    private static Passes PassesOf(Type service, IComponentRegistration registration)
    {
        if (service.IsArray)
        {
            return registration.Activator is ProvidedInstanceActivator ? Passes.Nothing : Passes.AsList;
        }

        if (!service.IsConstructedGenericType)
        {
            return Passes.Nothing;
        }

        Type open = service.GetGenericTypeDefinition();
        return registration.Activator is ProvidedInstanceActivator or ReflectionActivator ? Passes.Nothing
            : Lists.Contains(open) ? Passes.AsList
            : open.FullName is "Autofac.Features.OwnedInstances.Owned`1" ? Passes.Owned
            : open == typeof(Lazy<>) || open.FullName is "System.Lazy`2" || open.Namespace == "Autofac.Features.Metadata" ||
              open.Namespace == "Autofac.Features.Indexed" || open.FullName!.StartsWith("System.Func`", StringComparison.Ordinal) ? Passes.On
            : Passes.Nothing;
    }

    /// <summary>Returns the constructor that will be chosen, as far as that is known before: the longest whose parameters are registered.</summary>
    internal ConstructorInfo? Constructor(IComponentRegistry registry)
    {
        if (Registration.Activator is not ReflectionActivator)
        {
            return null;
        }

        ConstructorInfo[] constructors = Registration.Activator.LimitType.GetConstructors();
        return constructors.Length == 1 ? constructors[0] : constructors
            .Where(constructor => constructor.GetParameters().All(parameter => parameter.HasDefaultValue || registry.IsRegistered(ServiceOf(parameter))))
            .OrderByDescending(constructor => constructor.GetParameters().Length)
            .FirstOrDefault();
    }

    /// <summary>Returns what a constructor needs; parameters that no registration answers are given by the registration itself.</summary>
    internal IReadOnlyList<Need> Needs(ConstructorInfo constructor, IComponentRegistry registry) =>
        [.. constructor.GetParameters().Where(parameter => Decorated is null || !IsInner(parameter)).Where(parameter => registry.IsRegistered(ServiceOf(parameter))).Select(NeedOf)];

    private bool IsInner(ParameterInfo parameter) => parameter.ParameterType.IsAssignableFrom(Decorated!.Registration.Activator.LimitType);

    internal static Service ServiceOf(ParameterInfo parameter)
    {
        object? key = parameter.GetCustomAttribute<KeyFilterAttribute>()?.Key ?? FrameworkKey(parameter);
        return key is null ? new TypedService(parameter.ParameterType) : new KeyedService(key, parameter.ParameterType);
    }

    // [FromKeyedServices] of the framework's abstractions, which a container alone does not have.
    private static object? FrameworkKey(ParameterInfo parameter)
    {
        Attribute? attribute = parameter.GetCustomAttributes()
            .FirstOrDefault(one => one.GetType().FullName == "Microsoft.Extensions.DependencyInjection.FromKeyedServicesAttribute");
        return attribute?.GetType().GetProperty("Key")?.GetValue(attribute);
    }

    private static Need NeedOf(ParameterInfo parameter)
    {
        Type type = parameter.ParameterType;
        bool lazy = false;
        bool all = false;
        while (type.IsConstructedGenericType || type.IsArray)
        {
            Type? open = type.IsArray ? null : type.GetGenericTypeDefinition();
            if (open is null || Lists.Contains(open))
            {
                all = true;
                type = type.IsArray ? type.GetElementType()! : type.GenericTypeArguments[0];
            }
            else if (open.FullName is { } name && (name is "System.Lazy`1" or "System.Lazy`2" || name.StartsWith("System.Func`", StringComparison.Ordinal) ||
                name.StartsWith("Autofac.Features.OwnedInstances.Owned`", StringComparison.Ordinal)))
            {
                lazy = true;
                type = name.StartsWith("System.Func`", StringComparison.Ordinal) ? type.GenericTypeArguments[^1] : type.GenericTypeArguments[0];
            }
            else if (open.Namespace == "Autofac.Features.Metadata")
            {
                type = type.GenericTypeArguments[0];
            }
            else if (open.Namespace == "Autofac.Features.Indexed")
            {
                lazy = all = true;
                type = type.GenericTypeArguments[1];
            }
            else
            {
                break;
            }
        }

        string? key = ServiceOf(parameter) is KeyedService keyed ? KeyText(keyed.ServiceKey) : null;
        return new Need(TypeNames.Of(type), parameter.Name, key, All: all, Optional: parameter.HasDefaultValue, Lazy: lazy || IsContainer(type));
    }
}
