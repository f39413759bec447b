using System.Diagnostics;
using System.Globalization;
using System.Runtime.CompilerServices;
using System.Runtime.ExceptionServices;
using System.Text.RegularExpressions;
using KeenLantern.Record.Source;
using Microsoft.Extensions.DependencyInjection;

namespace KeenLantern.Record.DependencyInjection;

/// <summary>
/// One recorded container. It is the default container, over a copy of the application's registrations in which each type that is
/// to be constructed is a factory of ours, and each factory is called by one of ours. What the container refuses, it is asked for
/// once more with the registrations as they are, so that the refusal is its own.
/// </summary>
internal sealed partial class Container
{
    private const int Few = 8; // arguments of a constructor, for which no array is made
    private const int Deep = 128; // constructions within one another, of which no sound application has so many of one registration

    private readonly List<ServiceDescriptor> descriptors;
    private readonly ServiceProviderOptions options;
    private readonly Plan plan;
    private readonly Dictionary<string, string> madeUp; // keys, and the names written for them
    private readonly bool handsOutProviders;
    private readonly IServiceScopeFactory factory;
    private readonly ScopePlaces opened = new();
    private readonly object closing = new();
    private ServiceProvider? untouched;

    internal Container(IEnumerable<ServiceDescriptor> services, ServiceProviderOptions options, Recorder recorder)
    {
        this.options = options;
        descriptors = [.. services];
        Recorder = recorder;
        plan = new Plan(descriptors, options.ValidateScopes);
        madeUp = MadeUp(plan.All);
        (Id, RootScope) = recorder.AddContainer(new ContainerEvent { Duplicates = Duplicates.Last, Cycles = Cycles.Refused });
        Places.Set(plan.All);
        foreach (Node node in plan.All)
        {
            node.Uses = node.Service.IsInterface && !node.Open && node.Instance is null && recorder.Uses.Contains(node.Service);
        }

        foreach (Node node in plan.All)
        {
            node.Reg = recorder.Register(Registration(node));
        }

        // What a layer wraps may be registered behind it.
        foreach (Node node in plan.All)
        {
            if (Wrapped(node) is { } wrapped)
            {
                node.Wraps = wrapped.Reg;
                recorder.RegisterAgain(node.Reg, Registration(node));
            }
        }

        Validate();
        var changed = new ServiceCollection();
        foreach (Node node in plan.All)
        {
            ((ICollection<ServiceDescriptor>)changed).Add(Changed(node));
        }

        changed.AddTransient(_ => new Marker(recorder));
        changed.AddScoped<ScopeHolder>();
        handsOutProviders = plan.All.Exists(node => node.Open && Plan.TakesContainer(node));
        Real = changed.BuildServiceProvider(new ServiceProviderOptions { ValidateScopes = options.ValidateScopes });
        factory = Real.GetRequiredService<IServiceScopeFactory>();
        Root = new RecordedScope(this, (IServiceProvider)Real.GetService(typeof(IServiceProvider))!, null, RootScope);
        foreach (Node node in plan.All)
        {
            if (node.Instance is { } instance && recorder.IdOf(instance) == 0)
            {
                recorder.Make(
                    new MakeEvent { Reg = node.Reg, Container = Id, Scope = RootScope, By = MakeBy.External, Impl = TypeNames.Of(instance.GetType()) },
                    instance);
            }
        }
    }

    internal Recorder Recorder { get; }

    internal long Id { get; }

    internal long RootScope { get; }

    internal ServiceProvider Real { get; }

    internal RecordedScope Root { get; }

    // The container checks the registrations as they are: it cannot look into factories.
    private void Validate()
    {
        if (!options.ValidateOnBuild)
        {
            return;
        }

        try
        {
            descriptors.AsCollection().BuildServiceProvider(options).Dispose();
        }
        catch (AggregateException)
        {
            foreach (Node node in plan.All.Where(n => !n.Open && !n.AnyKey))
            {
                if (plan.Refuses(node.Service, node.Key) is { } refusal)
                {
                    Tell(refusal, RootScope, node.Reg);
                }
            }

            Recorder.Close(RootScope);
            throw;
        }
    }

    private ServiceDescriptor Changed(Node node)
    {
        ServiceDescriptor was = node.Descriptor;
        if (node.Instance is not null || node.Open)
        {
            return was;
        }

        if (node.Implementation is not null)
        {
            return was.IsKeyedService
                ? new ServiceDescriptor(was.ServiceType, was.ServiceKey, (sp, key) => Construct(node, sp, key), was.Lifetime)
                : new ServiceDescriptor(was.ServiceType, sp => Construct(node, sp, null), was.Lifetime);
        }

        return was.IsKeyedService
            ? new ServiceDescriptor(
                was.ServiceType, was.ServiceKey, (sp, key) => Call(node, sp, at => was.KeyedImplementationFactory!(at, key)), was.Lifetime)
            : new ServiceDescriptor(was.ServiceType, sp => Call(node, sp, was.ImplementationFactory!), was.Lifetime);
    }

    private Choice? Chosen(Node node) => node.Implementation is null || node.Open || node.AnyKey ? null : plan.Choose(node, node.Key);

    // A layer's constructor takes the service that it answers for itself, under another key.
    private Node? Wrapped(Node node) => Chosen(node)?.Arguments
        .Where(a => a.Source == Source.Service && a.Type == node.Service)
        .Select(a => plan.Answers(a.Type, a.Key))
        .FirstOrDefault(inner => inner is not null && inner != node);

    private RegisterEvent Registration(Node node)
    {
        Choice? choice = Chosen(node);
        return new RegisterEvent
        {
            Container = Id,
            Service = TypeNames.Of(node.Service),
            Impl = node.Implementation is null ? node.Instance is { } instance ? TypeNames.Of(instance.GetType()) : null : TypeNames.Of(node.Implementation),
            Lifetime = node.Instance is not null ? Lifetime.External : LifetimeOf(node.Lifetime),
            Key = node.Key is null || node.AnyKey ? null : KeyText(node.Key),
            Template = node.Open || node.AnyKey ? [.. node.AnyKey ? ["any-key"] : Array.Empty<string>(), .. node.Open ? ["any-type"] : Array.Empty<string>()] : null,
            FormOf = node.Template?.Reg ?? 0,
            Wraps = node.Wraps,
            Alias = node.Alias,
            At = node.At ?? node.Template?.At,
            Needs = choice is null ? null : [.. choice.Arguments.Where(a => a.Source is Source.Service or Source.Container).Select(NeedOf)],
            Signature = choice is null ? null : Signature(choice),
            Disposable = node.Disposable,
            Mechanism = node.Disposable == true ? Mechanism.Interface : null,
            Pooled = node.Pooled ? true : null,
            Internal = IsFramework(node) ? true : null,
            // The container builds closed forms of open registrations by itself.
            Sees = node.Open ? ["fail"] : node.Template is null ? null : GivenIsKnown(node, choice) ? ["with", "dispose", "fail"] : ["dispose", "fail"],
        };
    }

    private static bool IsFramework(Node node) => Callers.IsFramework((node.Implementation ?? node.Instance?.GetType() ?? node.Service).Assembly);

    private static Lifetime LifetimeOf(ServiceLifetime lifetime) => lifetime switch
    {
        ServiceLifetime.Singleton => Lifetime.Singleton,
        ServiceLifetime.Scoped => Lifetime.Scoped,
        _ => Lifetime.Transient,
    };

    private Need NeedOf(Argument argument)
    {
        bool many = Plan.IsMany(argument.Type) && plan.Answers(argument.Type, argument.Key) is null;
        return new Need(
            TypeNames.Of(many ? argument.Type.GenericTypeArguments[0] : argument.Type),
            argument.Parameter.Name,
            argument.Key is null ? null : KeyText(argument.Key),
            All: many,
            Optional: argument.Parameter.HasDefaultValue,
            Lazy: argument.Source == Source.Container);
    }

    // An add-on that moves registrations aside may generate keys with a GUID, which differs in every run: it is replaced by a number.
    private string KeyText(object? key) => key is string text && madeUp.TryGetValue(text, out string? name) ? name : Recorder.KeyText(key);

    private static Dictionary<string, string> MadeUp(IEnumerable<Node> nodes)
    {
        var names = new Dictionary<string, string>();
        foreach (string key in nodes.Select(node => node.Key).OfType<string>())
        {
            string name = Unique().Replace(key, "#" + (names.Count + 1).ToString(CultureInfo.InvariantCulture));
            if (name != key)
            {
                names.TryAdd(key, name);
            }
        }

        return names;
    }

    [GeneratedRegex("[0-9a-fA-F]{8}(-?[0-9a-fA-F]{4}){3}-?[0-9a-fA-F]{12}")]
    private static partial Regex Unique();

    private static string Signature(Choice choice) =>
        $"{choice.Constructor.DeclaringType!.Name}({string.Join(", ", choice.Arguments.Select(a => a.Type.Name))})";

    // Building.

    [InlineArray(Few)]
    private struct FewValues
    {
        private object? first;
    }

    private object Construct(Node node, IServiceProvider real, object? key)
    {
        Work work = Work.Mine;
        RecordedScope scope = ScopeOf(real, work);
        if (plan.Choose(node, key) is not { } choice)
        {
            Refuse(plan.Refuses(node.Service, key), node.Service, key, scope);
            throw new InvalidOperationException($"{node.Service} cannot be constructed.");
        }

        int count = choice.Arguments.Length;
        FewValues few = default;
        Span<object?> values = count <= Few ? ((Span<object?>)few)[..count] : new object?[count];
        return Wanted(node) ? Construct(node, choice, real, key, scope, values, work) : Construct(node, choice, real, key, scope, values);
    }

    // Nothing is recorded.
    private object Construct(Node node, Choice choice, IServiceProvider real, object? key, RecordedScope scope, Span<object?> values)
    {
        Argument[] arguments = choice.Arguments;
        for (int n = 0; n < arguments.Length; n++)
        {
            Argument argument = arguments[n];
            values[n] = argument.Source switch
            {
                Source.Service => argument.Target?.Single is { } single ? single.Instance : Ask(real, argument.Type, argument.Key),
                Source.Container => argument.Type == typeof(IServiceProvider) ? scope.AsProvider
                    : argument.Type == typeof(IServiceScopeFactory) ? new RecordedScopeFactory(this, node)
                    : real.GetService(argument.Type),
                Source.Key => key,
                _ => argument.Default,
            };
        }

        return choice.Invoke(values);
    }

    private object Construct(Node node, Choice choice, IServiceProvider real, object? key, RecordedScope scope, Span<object?> values, Work work)
    {
        Argument[] arguments = choice.Arguments;
        InstanceIds ids = arguments.Length == 0 ? InstanceIds.None : new InstanceIds(arguments.Length);
        List<object?>? with = null; // in its place, where one of them is several
        RecordedScopeFactory? opens = null;
        Frame frame = Enter(node, scope, work);
        try
        {
            for (int n = 0; n < arguments.Length; n++)
            {
                Argument argument = arguments[n];
                switch (argument.Source)
                {
                    case Source.Service when argument.Target?.Single is { } single:
                        values[n] = single.Instance;
                        if (with is null)
                        {
                            ids.Add(single.Identity.Inst);
                        }
                        else
                        {
                            with.Add(single.Identity.Inst);
                        }

                        break;
                    case Source.Service:
                        work.Building = null; // what the container builds for it has asked for nothing of this
                        values[n] = Ask(real, argument.Type, argument.Key);
                        work.Building = frame;
                        if (argument.Many || with is not null)
                        {
                            (with ??= [.. ids]).Add(IdsOf(values[n], argument.Target, argument.Many, argument.Type, argument.Key, scope, work));
                        }
                        else
                        {
                            ids.Add(values[n] is { } value ? IdOf(value, argument.Target, scope, work).Inst : 0);
                        }

                        break;
                    case Source.Container:
                        values[n] = argument.Type == typeof(IServiceProvider) ? scope.AsProvider
                            : argument.Type == typeof(IServiceScopeFactory) ? opens = new RecordedScopeFactory(this, node)
                            : real.GetService(argument.Type);
                        break;
                    case Source.Key:
                        values[n] = key;
                        break;
                    default:
                        values[n] = argument.Default;
                        break;
                }
            }

            long began = Stopwatch.GetTimestamp();
            object instance = choice.Invoke(values);
            long inst = Made(node, scope, instance, (IReadOnlyList<object?>?)with ?? ids, began, null, work);
            if (opens is not null)
            {
                opens.Inst = inst;
            }

            if (frame.Asked is not null)
            {
                Located(frame.Asked, inst, scope);
            }

            return node.Uses && inst != 0 ? Standing(node, instance, inst, scope, work) : instance;
        }
        catch (Exception e)
        {
            Failed(node, scope, e, work);
            throw;
        }
        finally
        {
            work.Leave(frame);
        }
    }

    // What a constructor asked the container for.
    private void Located(List<object?> asked, long inst, RecordedScope scope)
    {
        foreach (Given given in asked.OfType<Given>())
        {
            Recorder.Give(new GiveEvent
            {
                Inst = given.Inst,
                To = inst,
                Scope = scope.Id,
                Service = given.Service,
                Key = given.Key,
                How = How.Locator,
            });
        }
    }

    private object Call(Node node, IServiceProvider real, Func<IServiceProvider, object> factory)
    {
        Work work = Work.Mine;
        RecordedScope scope = ScopeOf(real, work);
        if (!Wanted(node))
        {
            return factory(scope.AsProvider);
        }

        Frame frame = Enter(node, scope, work);
        try
        {
            long began = Stopwatch.GetTimestamp();
            object instance = factory(scope.AsProvider);
            Identity known = instance is null ? default : Known(instance, frame, scope, work);
            // What another registration built is handed on: this registration answers with it, and builds nothing.
            if (instance is not null && known.Inst == 0)
            {
                // What has to do with its lease, a pooled instance does not keep.
                List<object?>? with = node.Pooled ? null : frame.Asked ?? [];
                Learn(node, instance, frame.Objects);
                long inst = Made(node, scope, instance, with, began, MakeBy.Factory, work);
                return node.Uses && inst != 0 ? Standing(node, instance, inst, scope, work) : instance;
            }

            else if (instance is not null && node.Pooled)
            {
                Follow(node, scope, instance, known.Inst);
            }
            else if (instance is not null)
            {
                HandsOn(node, known.Reg);
            }

            return instance!;
        }
        catch (Exception e)
        {
            Failed(node, scope, e, work);
            throw;
        }
        finally
        {
            work.Leave(frame);
        }
    }

    private Frame Enter(Node node, RecordedScope scope, Work work)
    {
        Frame frame = work.Enter(node);
        if (frame.Depth % Deep == 0 && Repeats(frame))
        {
            // The stack will overflow, which ends the process: the recording is sent before.
            Recorder.Fail(new FailEvent
            {
                Service = TypeNames.Of(node.Service),
                Key = node.Key is null || node.AnyKey ? null : KeyText(node.Key),
                For = node.Reg,
                Scope = Math.Max(scope.Id, 0),
                Why = FailWhy.Cycle,
                Path = [.. Cycle(frame).Select(at => TypeNames.Of(at.Service))],
            });
            Recorder.Flush(TimeSpan.FromSeconds(1));
        }

        return frame;
    }

    // Whether the same registration is being built over and over, by factories that ask for one another.
    private static bool Repeats(Frame frame)
    {
        int times = 0;
        for (Frame? at = frame; at is not null && times < Deep / 8; at = at.Outer)
        {
            times += at.Node == frame.Node ? 1 : 0;
        }

        return times == Deep / 8;
    }

    private static List<Node> Cycle(Frame frame)
    {
        var path = new List<Node> { frame.Node };
        for (Frame? at = frame.Outer; at is not null && path.Count < 64; at = at.Outer)
        {
            path.Insert(0, at.Node);
            if (at.Node == frame.Node)
            {
                break;
            }
        }

        return path;
    }

    // What a factory builds is a layer where its constructor takes the service that it answers for, and the factory asked for one.
    private void Learn(Node node, object instance, List<(object Instance, Identity Identity)>? asked)
    {
        if (node.NoAlias)
        {
            return;
        }

        lock (node)
        {
            if (node.NoAlias)
            {
                return;
            }

            bool again = node.Alias != 0;
            node.NoAlias = true;
            node.Alias = 0;
            if (asked is not null && Takes(instance.GetType(), node.Service))
            {
                node.Wraps = asked.Where(one => node.Service.IsInstanceOfType(one.Instance)).Select(one => one.Identity.Reg).FirstOrDefault(reg => reg != 0 && reg != node.Reg);
                again |= node.Wraps != 0;
            }

            if (again)
            {
                Recorder.RegisterAgain(node.Reg, Registration(node));
            }
        }
    }

    private static bool Takes(Type type, Type service) =>
        Array.Exists(type.GetConstructors(), c => Array.Exists(c.GetParameters(), p => p.ParameterType == service));

    // A factory that hands on what another registration built is an alias of it, unless it does so only at times.
    private void HandsOn(Node node, long reg)
    {
        if (node.NoAlias || reg == 0 || reg == node.Reg || reg == node.Alias)
        {
            return;
        }

        lock (node)
        {
            if (node.NoAlias)
            {
                return;
            }

            node.NoAlias = node.Alias != 0;
            node.Alias = node.NoAlias ? 0 : reg;
            Recorder.RegisterAgain(node.Reg, Registration(node));
        }
    }

    private bool Wanted(Node node) => Recorder.IsOn || node.Lifetime == ServiceLifetime.Singleton;

    private static object? Ask(IServiceProvider real, Type service, object? key) =>
        key is null ? real.GetService(service) : ((IKeyedServiceProvider)real).GetKeyedService(service, key);

    private long Made(Node node, RecordedScope scope, object instance, IReadOnlyList<object?>? with, long began, MakeBy? by, Work work)
    {
        if (node.IsLease)
        {
            return 0;
        }

        long now = Stopwatch.GetTimestamp();
        bool disposable = node.Disposable ?? instance is IDisposable or IAsyncDisposable;
        bool single = node.Lifetime == ServiceLifetime.Singleton;
        long at = single && work.Asking is { } asking && asking.Of == this ? asking.Id : scope.Id;
        // What ends with a scope is known there; what outlives scopes, wherever it is met.
        bool outlives = single || node.Pooled || ReferenceEquals(scope, Root);
        long inst = Recorder.Make(
            new MakeEvent
            {
                Reg = node.Reg,
                Container = Id == 1 ? 0 : Id,
                Scope = at,
                Owner = node.Pooled ? RootScope : at == scope.Id ? null : scope.Id,
                With = with,
                Ns = began == 0 ? 0 : Recorder.Nanoseconds(now - began),
                When = Recorder.Since(now),
                By = by,
                Impl = node.Implementation is null ? TypeNames.Of(instance.GetType()) : null,
                Disposable = node.Implementation is null && disposable ? true : null,
            },
            outlives ? instance : null);
        if (inst == 0)
        {
            return 0;
        }

        Remember(node, instance, new Identity(inst, node.Reg), scope, outlives, disposable, work);
        if (disposable)
        {
            Follow(node, scope, instance, inst);
        }

        return inst;
    }

    private static void Remember(Node node, object instance, Identity identity, RecordedScope scope, bool outlives, bool disposable, Work work)
    {
        if (node.Lifetime == ServiceLifetime.Singleton)
        {
            node.Single = new Single(instance, identity);
        }
        else if (!outlives && (disposable || node.Lifetime == ServiceLifetime.Scoped))
        {
            scope.Remember(instance, identity); // as the container does
        }
        else if (!outlives)
        {
            work.Fresh.Add(instance, identity);
        }
    }

    // Returns the proxy that is handed out in an instance's place; the recording takes both for the same instance.
    private object Standing(Node node, object instance, long inst, RecordedScope scope, Work work)
    {
        object standing = UsesProxy.Of(instance, node.Service, Recorder, inst, Math.Max(scope.Id, 0));
        var identity = new Identity(inst, node.Reg);
        bool outlives = node.Lifetime == ServiceLifetime.Singleton || ReferenceEquals(scope, Root);
        if (outlives)
        {
            Recorder.Know(standing, identity);
        }

        Remember(node, standing, identity, scope, outlives, instance is IDisposable or IAsyncDisposable, work);
        return standing;
    }

    private Identity Known(object instance, Frame? frame, RecordedScope scope, Work work)
    {
        Identity known = work.Fresh.Of(instance);
        known = known.Inst != 0 ? known : scope.Known(instance);
        known = known.Inst != 0 ? known : Recorder.IdentityOf(instance);
        return known.Inst != 0 || frame?.Objects is null ? known
            : frame.Objects.Find(one => ReferenceEquals(one.Instance, instance)).Identity; // of another scope
    }

    // Captured before the instance, and so disposed right behind it: the marker reports that the disposal is done. An instance that the
    // container built by itself is captured already: its marker is disposed right before it.
    private static void Follow(Node node, RecordedScope scope, object instance, long inst)
    {
        var marker = (Marker)scope.Real.GetService(typeof(Marker))!;
        marker.Set(instance, inst, scope, node.Pooled, before: node.Template is not null);
        scope.Follow(marker);
    }

    private void Failed(Node node, RecordedScope scope, Exception e, Work work)
    {
        if (work.Building?.Around is null) // recorded once, for the outermost
        {
            Recorder.Fail(new FailEvent
            {
                Service = TypeNames.Of(node.Service),
                Key = node.Key is null || node.AnyKey ? null : KeyText(node.Key),
                For = node.Reg,
                Scope = Math.Max(scope.Id, 0),
                Why = FailWhy.Error,
                Error = TypeNames.Of(e.GetType()),
            });
        }
    }

    // An instance's id, or the ids of several. What the container built by itself is recorded when it is first seen.
    private object? IdsOf(object? value, Node? target, bool many, Type service, object? key, RecordedScope scope, Work work)
    {
        if (value is null)
        {
            return null;
        }

        if (many && value is Array several)
        {
            var ids = new List<object?>(several.Length);
            foreach (object? one in several)
            {
                ids.Add(one is null ? null : IdOf(one, plan.FormIn(service.GenericTypeArguments[0], key, one.GetType()), scope, work).Inst);
            }

            return ids;
        }

        return IdOf(value, target, scope, work).Inst;
    }

    private Identity IdOf(object instance, Node? node, RecordedScope scope, Work work)
    {
        if (node?.Single is { } single && ReferenceEquals(single.Instance, instance))
        {
            return single.Identity;
        }

        Identity known = Known(instance, null, scope, work);
        if (known.Inst != 0 || node?.Template is null)
        {
            return known;
        }

        lock (node)
        {
            if (node.Reg == 0)
            {
                node.Reg = Recorder.Register(Registration(node));
            }
        }

        RecordedScope home = node.Lifetime == ServiceLifetime.Singleton ? Root : scope;
        List<object?>? with = Wanted(node) ? GivenTo(node, home, work) : null;
        lock (node)
        {
            known = Known(instance, null, home, work);
            return known.Inst != 0 ? known : new Identity(Made(node, home, instance, with, 0, null, work), node.Reg);
        }
    }

    // What a closed form was given, as far as the container has it still: singletons and scoped instances.
    private List<object?>? GivenTo(Node form, RecordedScope home, Work work)
    {
        if (plan.Choose(form, form.Key) is not { } choice)
        {
            return null;
        }

        Frame? frame = work.Building;
        work.Building = null;
        try
        {
            return [.. choice.Arguments.Where(a => a.Source == Source.Service && IsKept(a))
                .Select(a => IdsOf(Ask(home.Real, a.Type, a.Key), a.Target, a.Many, a.Type, a.Key, home, work))];
        }
        finally
        {
            work.Building = frame;
        }
    }

    private static bool IsKept(Argument argument) => argument.Target is { Lifetime: not ServiceLifetime.Transient };

    private static bool GivenIsKnown(Node form, Choice? choice) =>
        form.Template is not null && choice is not null && choice.Arguments.All(a => a.Source != Source.Service || IsKept(a));

    // Resolution, by the application and by constructions.

    internal object? Get(RecordedScope scope, Type service, object? key, bool required)
    {
        Request request = plan.Requested(service, key);
        switch (request.Part)
        {
            case Part.Provider:
                return scope.AsProvider;
            case Part.Scopes:
                return Root;
        }

        if (request.Refusal is not null || (request.NeedsScope && ReferenceEquals(scope, Root)))
        {
            Refuse(request.Refusal ?? new Refusal(FailWhy.NoScope, service, key, [service]), service, key, scope);
        }

        Work work = Work.Mine;
        Frame? frame = work.Building;
        RecordedScope? asking = work.Asking;
        RecordedScope? current = work.Current;
        work.Building = null;
        work.Asking ??= scope;
        work.Current = scope;
        work.Depth++;
        try
        {
            object? value = !required ? Ask(scope.Provider, service, key)
                : key is null ? scope.Provider.GetRequiredService(service)
                : scope.Provider.GetRequiredKeyedService(service, key);
            if (value is null)
            {
                // A service that is asked for and may be absent is ordinary; a key that none of its registrations has is not.
                if (key is not null && request.Target is null && plan.HasKeys(service))
                {
                    work.Building = frame;
                    Missing(scope, service, key, optional: true);
                }
            }
            else if (Recorder.IsOn || frame is not null)
            {
                HandedOut(frame, scope, service, key, value, request, work);
            }

            return value;
        }
        catch (ObjectDisposedException)
        {
            work.Building = frame;
            Recorder.Fail(new FailEvent
            {
                Service = request.Name,
                Key = key is null ? null : KeyText(key),
                Scope = Math.Max(scope.Id, 0),
                Entry = frame is null ? scope.Request?.AskerOf(service)?.Entry : null,
                Why = FailWhy.Closed,
                Error = TypeNames.Of(typeof(ObjectDisposedException)),
            });
            throw;
        }
        catch (InvalidOperationException) when (required && request.Target is null && !request.Many)
        {
            work.Building = frame;
            Missing(scope, service, key, optional: false);
            throw;
        }
        finally
        {
            work.Building = frame;
            work.Asking = asking;
            work.Current = current;
            if (--work.Depth == 0 && work.Innermost is null)
            {
                work.Fresh.Clear();
            }
        }
    }

    private void HandedOut(Frame? frame, RecordedScope scope, Type service, object? key, object value, Request request, Work work)
    {
        object? ids = IdsOf(value, request.Target, request.Many, service, key, scope, work);
        if (ids is List<object?> several)
        {
            string name = TypeNames.Of(service.GenericTypeArguments[0]);
            foreach (object? id in several)
            {
                HandedOut(frame, scope, service, name, key, (long?)id ?? 0, all: true);
            }

            return;
        }

        HandedOut(frame, scope, service, request.Name, key, (long?)ids ?? 0, all: false);
        if (frame?.Node.Implementation is null && frame is not null)
        {
            (frame.Objects ??= []).Add((value, IdOf(value, request.Target, scope, work)));
        }
    }

    private void HandedOut(Frame? frame, RecordedScope scope, Type service, string name, object? key, long inst, bool all)
    {
        if (inst == 0)
        {
            return;
        }

        string? text = key is null ? null : KeyText(key);
        if (frame is not null)
        {
            (frame.Asked ??= []).Add(new Given(inst, Service: name, Key: text));
            return;
        }

        Asker? asker = scope.Request?.AskerOf(service);
        Recorder.Give(new GiveEvent
        {
            Inst = inst,
            Scope = Math.Max(scope.Id, 0),
            Entry = asker?.Entry,
            Service = name,
            Key = text,
            How = asker?.How ?? How.Locator,
            Site = asker?.Site,
            All = all ? true : null,
        });
    }

    private void Missing(RecordedScope scope, Type service, object? key, bool optional) => Recorder.Fail(new FailEvent
    {
        Service = TypeNames.Of(service),
        Key = key is null ? null : KeyText(key),
        Scope = Math.Max(scope.Id, 0),
        Entry = Work.Mine.Building is null ? scope.Request?.AskerOf(service)?.Entry : null,
        Why = FailWhy.Missing,
        Optional = optional ? true : null,
    });

    // The container's own refusal: it refuses before it constructs anything, and so does this.
    private void Refuse(Refusal? refusal, Type service, object? key, RecordedScope scope)
    {
        if (refusal is not null)
        {
            Tell(refusal, Math.Max(scope.Id, 0), 0, Work.Mine.Building is null ? scope.Request?.AskerOf(service)?.Entry : null);
        }

        ServiceProvider provider;
        lock (closing)
        {
            provider = untouched ??= descriptors.AsCollection().BuildServiceProvider(
                new ServiceProviderOptions { ValidateScopes = options.ValidateScopes });
        }

        using IServiceScope? inner = ReferenceEquals(scope, Root) ? null : provider.CreateScope();
        Exception? thrown = null;
        try
        {
            Ask(inner?.ServiceProvider ?? provider, service, key);
        }
        catch (Exception e)
        {
            thrown = e;
        }

        if (thrown is not null)
        {
            ExceptionDispatchInfo.Throw(thrown);
        }
    }

    private void Tell(Refusal refusal, long scope, long asked, string? entry = null) => Recorder.Fail(new FailEvent
    {
        Service = TypeNames.Of(refusal.Service),
        Key = refusal.Key is null || refusal.Key == KeyedService.AnyKey ? null : KeyText(refusal.Key),
        Scope = scope,
        For = asked,
        Entry = entry,
        Why = refusal.Why,
        Path = [.. refusal.Path.Take(64).Select(TypeNames.Of)],
    });

    // Scopes.

    private RecordedScope ScopeOf(IServiceProvider real, Work work)
    {
        if (work.Current is { } current && ReferenceEquals(current.Real, real))
        {
            return current;
        }

        if (ReferenceEquals(real, Root.Real))
        {
            return Root;
        }

        // What the container built by itself resolves with the container's own provider.
        var holder = (ScopeHolder)real.GetService(typeof(ScopeHolder))!;
        lock (holder)
        {
            return holder.Scope ??= Unseen(real);
        }
    }

    // It was begun by what the container built by itself, with the container's own factory of scopes: its end is not seen.
    private RecordedScope Unseen(IServiceProvider real) => new(
        this,
        real,
        null,
        Recorder.Open(new OpenEvent { In = RootScope, Ends = Ends.Unknown, Trace = Recorder.TraceId() }));

    internal RecordedScope CreateScope(RecordedScopeFactory? by)
    {
        IServiceScope real = factory.CreateScope();
        if (!Recorder.IsOn)
        {
            return Scope(real, Recorder.Unrecorded, null);
        }

        // Work that the application names lies around it.
        var open = new OpenEvent { In = Recorder.Scope == 0 ? RootScope : Recorder.Scope, Kind = "scope", Trace = Recorder.TraceId() };
        IRequest? request = null;
        if (by is not null)
        {
            open.Name = TypeNames.Of(by.Consumer.Implementation!);
            open.Opener = by.Inst;
            if (IsFramework(by.Consumer))
            {
                // Such as the handlers of HTTP clients, which are kept for minutes, and released with their clients.
                open.Closer = Closer.Framework;
                open.Ends = Ends.Unknown;
            }
        }
        else if ((request = Recorder.Requests?.Next()) is not null)
        {
            open.Kind = "request";
            open.Closer = Closer.Framework;
        }

        if (request is null && open.Closer is null)
        {
            open.At = opened.Of(by?.Consumer);
        }

        long id = Recorder.Open(open, request?.Name);
        if (request is not null)
        {
            request.Scope = id;
        }

        return Scope(real, id, request);
    }

    private RecordedScope Scope(IServiceScope real, long id, IRequest? request)
    {
        var scope = new RecordedScope(this, real.ServiceProvider, real, id) { Request = request };
        if (handsOutProviders)
        {
            ((ScopeHolder)scope.Real.GetService(typeof(ScopeHolder))!).Scope = scope;
        }

        return scope;
    }

    internal void Closed(Exception? failure)
    {
        Root.Ended(failure);
        Recorder.Close(RootScope);
        Recorder.ForgetContainer(Id);
        lock (closing)
        {
            untouched?.Dispose();
        }
    }
}

/// <summary>Has the container know which of its scopes is which of ours.</summary>
internal sealed class ScopeHolder
{
    internal RecordedScope? Scope { get; set; }
}

internal static class Descriptors
{
    internal static ServiceCollection AsCollection(this IEnumerable<ServiceDescriptor> descriptors)
    {
        var collection = new ServiceCollection();
        foreach (ServiceDescriptor descriptor in descriptors)
        {
            ((ICollection<ServiceDescriptor>)collection).Add(descriptor);
        }

        return collection;
    }
}
