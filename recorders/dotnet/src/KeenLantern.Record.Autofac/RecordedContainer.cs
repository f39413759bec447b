using System.Collections.Concurrent;
using System.Diagnostics;
using System.Reflection;
using System.Runtime.CompilerServices;
using Autofac;
using Autofac.Core;
using Autofac.Core.Activators.Reflection;
using Autofac.Core.Lifetime;
using Autofac.Core.Registration;
using Autofac.Core.Resolving;
using Autofac.Core.Resolving.Pipeline;
using Autofac.Features.Decorators;
using KeenLantern.Record.Source;

namespace KeenLantern.Record.Autofac;

/// <summary>
/// One recorded container: middleware in the pipelines of its services records hand-outs, and middleware in those of its
/// registrations records constructions.
/// </summary>
internal sealed class RecordedContainer : IServiceMiddlewareSource
{
    private static readonly Scope Unrecorded = new(Recorder.Unrecorded, null);

    [ThreadStatic]
    private static Frame? top;

    private readonly Recorder recorder;
    private readonly long id;
    private readonly long rootScope;
    private readonly ConcurrentDictionary<Guid, Component> components = new();
    private readonly ConcurrentQueue<Component> inOrder = new();
    private readonly ConcurrentDictionary<(Guid, Guid), Component> decorators = new();
    private readonly ConditionalWeakTable<ILifetimeScope, Scope> scopes = [];
    private readonly ScopePlaces opened = new();
    private readonly Scope root;
    private readonly EventHandler<LifetimeScopeBeginningEventArgs> begins;
    private readonly object registering = new();
    private ILookup<string, RegistrationCall>? calls;

    /// <summary>A resolution: by a consumer under construction, or by the application.</summary>
    private sealed class Frame(Frame? outer, Component? component, IResolveOperation operation, List<object?>? given)
    {
        internal Frame? Outer => outer;

        /// <summary>The component under construction; null: the application resolves.</summary>
        internal Component? Component => component;

        internal IResolveOperation Operation => operation;

        /// <summary>The ids of what it was given; null: that is not to be recorded.</summary>
        internal List<object?>? Given => given;

        /// <summary>What it resolved past its constructor's parameters.</summary>
        internal List<GiveEvent>? Located { get; set; }

        /// <summary>The instances that a factory was given.</summary>
        internal List<object>? Objects { get; set; }

        /// <summary>Why the resolution fails, once it does.</summary>
        internal FailEvent? Failure { get; set; }
    }

    internal sealed class Scope(long id, IRequest? request)
    {
        internal long Id => id;

        internal IRequest? Request => request;
    }

    internal RecordedContainer(ContainerBuilder builder, Recorder recorder)
    {
        this.recorder = recorder;
        (id, rootScope) = recorder.AddContainer(new ContainerEvent { Duplicates = Duplicates.Last, Cycles = Cycles.Refused });
        root = new Scope(rootScope, null);
        begins = Begins;
        builder.ComponentRegistryBuilder.Registered += (_, e) => Registered(e.ComponentRegistration);
        builder.ComponentRegistryBuilder.AddServiceMiddlewareSource(this);
        builder.RegisterBuildCallback(Built);
    }

    private void Registered(IComponentRegistration registration)
    {
        Component component = components.GetOrAdd(registration.Id, _ => new Component(registration));
        inOrder.Enqueue(component); // those that the container adds when they are first resolved as well
        registration.PipelineBuilding += (_, pipeline) =>
        {
            pipeline.Use(new Around(PipelinePhase.RegistrationPipelineStart, (context, next) => Build(component, context, next)), MiddlewareInsertionMode.StartOfPhase);
            // The container adds what captures disposables before it, and what constructs behind it.
            pipeline.Use(new Around(PipelinePhase.Activation, Activate), MiddlewareInsertionMode.StartOfPhase);
        };
    }

    private void Built(ILifetimeScope container)
    {
        RegisterAll(container.ComponentRegistry);
        container.ChildLifetimeScopeBeginning += begins;
        container.Disposer.AddInstanceForDisposal(new AtEnd(() =>
        {
            recorder.Close(rootScope);
            recorder.ForgetContainer(id);
        }));
    }

    // Registrations.

    // In the order of the registrations, before the first of them is built: of several, the last one answers.
    private void RegisterAll(IComponentRegistry registry)
    {
        lock (registering)
        {
            if (inOrder.IsEmpty)
            {
                return;
            }

            List<Component> all = [.. inOrder];
            inOrder.Clear();
            string?[] places = RegistrationCalls.PlacesOf([.. all.Select(component => ((string?)null, CallsOf(component)))]);
            for (int n = 0; n < all.Count; n++)
            {
                all[n].At = places[n];
                if (all[n].IsOwn)
                {
                    Register(all[n], registry);
                }
            }
        }
    }

    private long Register(Component component, IComponentRegistry registry)
    {
        if (component.Reg == 0)
        {
            lock (registering)
            {
                if (component.Reg == 0)
                {
                    component.Reg = recorder.Register(Registration(component, registry));
                }
            }
        }

        return component.Reg;
    }

    private RegisterEvent Registration(Component component, IComponentRegistry registry)
    {
        IComponentRegistration registration = component.Registration;
        ConstructorInfo? constructor = component.Constructor(registry);
        Type type = registration.Activator.LimitType;
        bool? disposable = component.IsFactory ? null : typeof(IDisposable).IsAssignableFrom(type) || typeof(IAsyncDisposable).IsAssignableFrom(type);
        bool owned = registration.Ownership == InstanceOwnership.OwnedByLifetimeScope;
        return new RegisterEvent
        {
            Container = id,
            Service = component.Names[0].Service,
            Key = component.Names[0].Key,
            Also = component.Names.Count > 1 ? [.. component.Names.Skip(1)] : null,
            Impl = component.IsFactory ? null : TypeNames.Of(type),
            Lifetime = component.Lifetime,
            Needs = constructor is null ? null : component.Needs(constructor, registry),
            Signature = constructor is null ? null : $"{type.Name}({string.Join(", ", constructor.GetParameters().Select(p => p.ParameterType.Name))})",
            Wraps = component.Decorated is { } decorated ? Register(decorated, registry) : component.Wraps,
            Alias = component.Alias,
            Disposable = disposable,
            Disposer = disposable == true && !owned ? Disposer.Code : null,
            Mechanism = disposable == true ? Mechanism.Interface : null,
            Internal = component.IsInternal ? true : null,
            At = component.At,
        };
    }

    // A registration call names the implementation first.
    private List<RegistrationCall> CallsOf(Component component)
    {
        calls ??= RegistrationCalls.All("Autofac", new HashSet<string> { typeof(ContainerBuilder).FullName! }).Distinct().ToLookup(call => call.Types[0]);
        return [.. calls[RegistrationCalls.NameOf(component.Registration.Activator.LimitType)]];
    }

    // Scopes.

    // A scope that began while nothing was recorded is left out.
    private Scope ScopeOf(ISharingLifetimeScope scope) => ReferenceEquals(scope, scope.RootLifetimeScope) ? root
        : scopes.TryGetValue(scope, out Scope? known) ? known
        : Unrecorded;

    private void Begins(object? parent, LifetimeScopeBeginningEventArgs e)
    {
        e.LifetimeScope.ChildLifetimeScopeBeginning += begins;
        if (!recorder.IsOn)
        {
            return;
        }

        IRequest? request = recorder.Requests?.Next();
        // The names of tags are given by the application or, where it owns an instance, by its service.
        string? tag = e.LifetimeScope.Tag switch { string text => text, Service service => Component.NameOf(service)?.Service, _ => null };
        long around = parent is ILifetimeScope outer && scopes.TryGetValue(outer, out Scope? known) ? known.Id : rootScope;
        var open = new OpenEvent
        {
            In = recorder.Scope == 0 || around != rootScope ? around : recorder.Scope,
            Kind = request is null ? "scope" : "request",
            Name = request is null ? tag : null,
            Closer = request is null ? null : Closer.Framework,
            Trace = Recorder.TraceId(),
            At = request is null ? opened.Of(null) : null,
        };
        var scope = new Scope(recorder.Open(open, request?.Name), request);
        scopes.Add(e.LifetimeScope, scope);
        if (request is not null)
        {
            request.Scope = scope.Id;
        }

        // The first captured disposable is disposed last.
        e.LifetimeScope.Disposer.AddInstanceForDisposal(new AtEnd(() => recorder.Close(scope.Id)));
    }

    // Resolution.

    void IServiceMiddlewareSource.ProvideMiddleware(Service service, IComponentRegistryServices availableServices, IResolvePipelineBuilder pipelineBuilder) =>
        pipelineBuilder.Use(new Around(PipelinePhase.ResolveRequestStart, Resolve), MiddlewareInsertionMode.StartOfPhase);

    // A request for a service, by a consumer that is being built or by the application.
    private void Resolve(ResolveRequestContext context, Action<ResolveRequestContext> next)
    {
        Frame? outer = top;
        if (outer is null && !recorder.IsOn)
        {
            next(context);
            return;
        }

        if (outer is not null)
        {
            try
            {
                next(context);
            }
            catch (Exception e)
            {
                outer.Failure ??= FailureOf(context, outer, e);
                throw;
            }

            GivenTo(outer, context);
            return;
        }

        Frame frame = top = new Frame(null, null, context.Operation, []);
        try
        {
            next(context);
        }
        catch (Exception e)
        {
            if ((frame.Failure ?? FailureOf(context, frame, e)) is { } failure)
            {
                failure.Scope = Math.Max(ScopeOf(context.Operation.CurrentScope).Id, 0);
                failure.Entry = AskerOf(context)?.Entry;
                recorder.Fail(failure);
            }

            throw;
        }
        finally
        {
            top = null;
        }

        GivenTo(frame, context);
        foreach (object? given in frame.Given!)
        {
            Give(context, given, all: false);
        }
    }

    private Asker? AskerOf(ResolveRequestContext context) => context.Service is IServiceWithType typed
        ? ScopeOf(context.Operation.CurrentScope).Request?.AskerOf(typed.ServiceType)
        : null;

    private void Give(ResolveRequestContext context, object? given, bool all)
    {
        if (given is List<object?> several)
        {
            several.ForEach(one => Give(context, one, all: true));
        }
        else if (given is long inst and not 0 && Component.NameOf(context.Service) is { } name)
        {
            Asker? asker = AskerOf(context);
            recorder.Give(new GiveEvent
            {
                Inst = inst,
                Scope = Math.Max(ScopeOf(context.Operation.CurrentScope).Id, 0),
                Entry = asker?.Entry,
                Service = all ? ElementOf(context.Service) : name.Service,
                Key = name.Key,
                How = asker?.How ?? How.Locator,
                Site = asker?.Site,
                All = all ? true : null,
            });
        }
    }

    private static string ElementOf(Service service)
    {
        Type type = ((IServiceWithType)service).ServiceType;
        return TypeNames.Of(type.IsArray ? type.GetElementType()! : type.IsConstructedGenericType ? type.GenericTypeArguments[0] : type);
    }

    // The consumer is given the resolved instance; of the container's adapters, the instances that these resolve.
    private void GivenTo(Frame to, ResolveRequestContext context)
    {
        if (to.Given is null || context.Instance is null || !components.TryGetValue(context.Registration.Id, out Component? component) || !component.IsOwn)
        {
            return;
        }

        long inst = recorder.IdOf(context.Instance);
        if (inst == 0)
        {
            return;
        }

        if (to.Component is not null && !ReferenceEquals(to.Operation, context.Operation) && Component.NameOf(context.Service) is { } name)
        {
            (to.Located ??= []).Add(new GiveEvent
            {
                Inst = inst,
                Scope = Math.Max(ScopeOf(context.Operation.CurrentScope).Id, 0),
                Service = name.Service,
                Key = name.Key,
                How = How.Locator,
            });
            return;
        }

        to.Given.Add(inst);
        if (to.Component is { IsFactory: true, NoAlias: false })
        {
            (to.Objects ??= []).Add(context.Instance);
        }
    }

    // Constructs a component; it is given the instances that are resolved meanwhile.
    private void Build(Component component, ResolveRequestContext context, Action<ResolveRequestContext> next)
    {
        Frame? outer = top;
        // What outlives scopes is kept while nothing is recorded.
        if (!recorder.IsOn && component.Lifetime is not (Lifetime.Singleton or Lifetime.External) && component.Names.Count > 0 && component.Passes == Passes.Nothing)
        {
            next(context);
            return;
        }

        Component built = context.DecoratorTarget is { } target && component.Names.Count == 0 ? Decorator(component, target, context) : component;
        List<object?>? given = [];
        switch (built.Passes)
        {
            case Passes.AsList:
                outer?.Given?.Add(given);
                break;
            case Passes.On:
                given = outer?.Given;
                break;
            case Passes.Owned:
                given = null;
                break;
        }

        if (built.Decorated is not null)
        {
            foreach (TypedParameter parameter in context.Parameters.OfType<TypedParameter>())
            {
                if (recorder.IdOf(parameter.Value) is var inner and not 0 && !given!.Contains(inner))
                {
                    given.Add(inner);
                }
            }
        }

        Frame frame = top = new Frame(outer, built, context.Operation, given);
        try
        {
            next(context);
        }
        finally
        {
            top = outer;
            if (outer is not null)
            {
                outer.Failure ??= frame.Failure;
            }
        }

        if (context.Instance is { } instance && built is { IsOwn: true, IsFactory: true } && recorder.IdentityOf(instance).Reg is var reg and not 0 && reg != built.Reg)
        {
            HandsOn(built, reg, context.ComponentRegistry);
        }
    }

    private Component Decorator(Component component, IComponentRegistration target, ResolveRequestContext context) =>
        decorators.GetOrAdd((component.Registration.Id, target.Id), _ =>
        {
            // Of several decorators of one registration, each decorates the one before.
            long inner = context.Parameters.OfType<TypedParameter>().Select(p => p.Value is null ? 0 : recorder.IdentityOf(p.Value).Reg).FirstOrDefault(reg => reg != 0);
            Component decorated = decorators.Values.FirstOrDefault(one => one.Reg == inner && inner != 0) ??
                components.GetOrAdd(target.Id, _ => new Component(target));
            return new Component(component.Registration, decorated) { At = component.At };
        });

    // Runs before the instance is captured for disposal: a disposable captured here is disposed right after the instance.
    private void Activate(ResolveRequestContext context, Action<ResolveRequestContext> next)
    {
        long began = Stopwatch.GetTimestamp();
        next(context);
        Frame? frame = top;
        if (frame?.Component is not { IsOwn: true } component || component.Registration.Id != context.Registration.Id || context.Instance is not { } instance)
        {
            return;
        }

        RegisterAll(context.ComponentRegistry);
        Register(component, context.ComponentRegistry);
        if (component.IsFactory)
        {
            if (recorder.IdOf(instance) != 0)
            {
                return; // it hands on what another registration built
            }

            Learn(component, instance, frame.Objects, context.ComponentRegistry);
        }
        else if (component.IsInstance && recorder.IdOf(instance) != 0)
        {
            return;
        }

        Made(component, instance, frame, context, Stopwatch.GetElapsedTime(began));
    }

    private void Made(Component component, object instance, Frame frame, ResolveRequestContext context, TimeSpan took)
    {
        bool owned = component.Registration.Ownership == InstanceOwnership.OwnedByLifetimeScope;
        bool disposable = instance is IDisposable or IAsyncDisposable;
        long home = ScopeOf(context.ActivationScope).Id;
        long at = component.Lifetime == Lifetime.Singleton ? ScopeOf(context.Operation.CurrentScope).Id : home;
        long inst = recorder.Make(
            new MakeEvent
            {
                Reg = component.Reg,
                Container = id == 1 ? 0 : id,
                Scope = at,
                Owner = disposable && !owned ? TraceEvent.Nobody : at == home ? null : home,
                With = component.IsInstance ? null : frame.Given,
                Ns = (long)(took.TotalMilliseconds * 1e6),
                By = component.IsInstance ? MakeBy.External : component.IsFactory ? MakeBy.Factory : null,
                Impl = component.IsFactory ? TypeNames.Of(instance.GetType()) : null,
                Disposable = component.IsFactory && disposable ? true : null,
            },
            instance);
        if (inst == 0)
        {
            return;
        }

        foreach (GiveEvent located in frame.Located ?? [])
        {
            located.To = inst;
            recorder.Give(located);
        }

        if (disposable && owned)
        {
            context.ActivationScope.Disposer.AddInstanceForDisposal(new AtEnd(() => recorder.Disposed(instance, inst, Math.Max(home, 0))));
        }
    }

    // What a factory builds is a layer where its constructor takes the service that it answers for, and the factory resolved one.
    private void Learn(Component component, object instance, List<object>? given, IComponentRegistry registry)
    {
        if (component.NoAlias)
        {
            return;
        }

        lock (component)
        {
            if (component.NoAlias)
            {
                return;
            }

            bool again = component.Alias != 0;
            component.NoAlias = true;
            component.Alias = 0;
            if (given is not null && component.Registration.Services.OfType<IServiceWithType>().FirstOrDefault()?.ServiceType is { } service &&
                Array.Exists(instance.GetType().GetConstructors(), c => Array.Exists(c.GetParameters(), p => p.ParameterType == service)))
            {
                component.Wraps = given.Where(service.IsInstanceOfType).Select(one => recorder.IdentityOf(one).Reg).FirstOrDefault(reg => reg != 0 && reg != component.Reg);
                again |= component.Wraps != 0;
            }

            if (again)
            {
                recorder.RegisterAgain(component.Reg, Registration(component, registry));
            }
        }
    }

    // A factory that hands on what another registration built is an alias of it, unless it does so only at times.
    private void HandsOn(Component component, long reg, IComponentRegistry registry)
    {
        if (component.NoAlias || reg == component.Alias)
        {
            return;
        }

        lock (component)
        {
            if (component.NoAlias)
            {
                return;
            }

            component.NoAlias = component.Alias != 0;
            component.Alias = component.NoAlias ? 0 : reg;
            recorder.RegisterAgain(component.Reg, Registration(component, registry));
        }
    }

    // Failures.

    private FailEvent? FailureOf(ResolveRequestContext context, Frame frame, Exception e)
    {
        if (Component.NameOf(context.Service) is not { } name)
        {
            return null;
        }

        var fail = new FailEvent { Service = name.Service, Key = name.Key, Path = Path(frame, name.Service) };
        Exception inner = e;
        while (inner is DependencyResolutionException && inner.InnerException is { } cause)
        {
            inner = cause;
        }

        components.TryGetValue(context.Registration.Id, out Component? component);
        if (inner is not DependencyResolutionException)
        {
            fail.For = component?.Reg ?? 0;
            fail.Why = FailWhy.Error;
            fail.Error = TypeNames.Of(inner.GetType());
            return fail;
        }

        if (Builds(frame, context.Registration))
        {
            fail.Why = FailWhy.Cycle;
        }
        else if (context.Registration.Lifetime is MatchingScopeLifetime && context.Instance is null && !e.Message.Contains("activating", StringComparison.Ordinal))
        {
            fail.Why = FailWhy.NoScope;
        }
        else if (component?.Registration.Activator is ReflectionActivator && Lacks(component, context.ComponentRegistry) is { } missing)
        {
            fail.For = component.Reg;
            fail.Why = FailWhy.Missing;
            fail.Path = Path(frame, name.Service);
            fail.Service = missing.Service;
            fail.Key = missing.Key;
        }
        else
        {
            fail.For = component?.Reg ?? 0;
            fail.Why = FailWhy.Constructors;
        }

        return fail;
    }

    private static bool Builds(Frame frame, IComponentRegistration registration)
    {
        for (Frame? at = frame; at is not null; at = at.Outer)
        {
            if (at.Component?.Registration == registration)
            {
                return true;
            }
        }

        return false;
    }

    private static List<string> Path(Frame frame, string last)
    {
        var path = new List<string> { last };
        for (Frame? at = frame; at is not null && path.Count < 64; at = at.Outer)
        {
            if (at.Component is { IsOwn: true } component)
            {
                path.Insert(0, component.Names[0].Service);
            }
        }

        return path;
    }

    private static Also? Lacks(Component component, IComponentRegistry registry)
    {
        ConstructorInfo[] constructors = component.Registration.Activator.LimitType.GetConstructors();
        return constructors.Length != 1 ? null : constructors[0].GetParameters()
            .Where(parameter => !parameter.HasDefaultValue)
            .Select(Component.ServiceOf)
            .Where(service => !registry.IsRegistered(service))
            .Select(Component.NameOf)
            .FirstOrDefault();
    }

    private sealed class Around(PipelinePhase phase, Action<ResolveRequestContext, Action<ResolveRequestContext>> execute) : IResolveMiddleware
    {
        public PipelinePhase Phase => phase;

        public void Execute(ResolveRequestContext context, Action<ResolveRequestContext> next) => execute(context, next);

        public override string ToString() => "Keen Lantern";
    }

    /// <summary>Reports its own disposal: everything that was captured after it is disposed by then.</summary>
    private sealed class AtEnd(Action act) : IDisposable
    {
        public void Dispose() => act();
    }
}
