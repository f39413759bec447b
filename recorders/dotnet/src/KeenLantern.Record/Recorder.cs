using System.Collections.Concurrent;
using System.Diagnostics;
using System.Globalization;
using System.Runtime.InteropServices;

namespace KeenLantern.Record;

/// <summary>
/// Records one process. Its methods may be called from any thread: they do not wait for the service, and throw nothing. What happens
/// is noted, and written and sent by the recorder's own thread, which does not keep the process alive.
/// </summary>
public sealed class Recorder : IDisposable
{
    /// <summary>The scope of work that is not recorded: recording is off, or the scope is not in the share.</summary>
    public const long Unrecorded = -3;

    private const long Dropped = -4; // unrecorded for want of memory: what happens in it is counted

    private static readonly long Origin = Stopwatch.GetTimestamp() - 1;

    private readonly RecorderOptions options;
    private readonly AsyncLocal<long> working = new();
    private readonly Instances instances;
    private readonly Unregistered unregistered;
    private readonly Keys keys = new();
    private readonly IReadOnlyList<string> sees;
    private volatile Session? now;
    private long scopes;
    private long insts;

    // Registrations, and instances that outlive scopes, are kept, to be written when recording begins. One lock guards them.
    private readonly object rare = new();
    private readonly object switching = new();
    private readonly List<TraceEvent> setup = []; // containers and registrations
    private readonly Dictionary<long, int> registered = []; // where a registration is among them
    private readonly Dictionary<long, MakeEvent> kept = [];
    private readonly ConcurrentDictionary<long, bool> roots = new();
    private readonly ConcurrentDictionary<long, bool> lasting = new(); // registrations whose instances outlive scopes
    private int remembered; // bytes of setup and kept
    private long untold;
    private long registrations;
    private long containers;
    private bool ended;

    private readonly ConcurrentQueue<TraceEvent> notes = new();
    private readonly int mostNotes;
    private readonly int mostRemembered;
    private long noted; // bytes of notes
    private long dropped;
    private long warned; // when a problem was last reported
    private volatile bool crowded;

    private readonly Writer writer;
    private readonly IDelivery delivery;
    private readonly Orders? orders;
    private readonly PosixSignalRegistration? interrupt;

    /// <summary>What a stream begins with.</summary>
    internal sealed record Told(List<TraceEvent> Setup, List<MakeEvent> Kept, long Untold);

    /// <summary>Starts recording.</summary>
    /// <exception cref="ArgumentException">A setting is missing or wrong; the message says which.</exception>
    /// <exception cref="IOException">The file cannot be made.</exception>
    public Recorder(RecorderOptions options)
    {
        ArgumentNullException.ThrowIfNull(options);
        this.options = options = options.Checked();
        mostNotes = options.Memory / 8;
        mostRemembered = options.Memory / 4;
        instances = new Instances(options.Memory / 3 / Instances.Bytes);
        unregistered = new Unregistered(options.HideUnregistered);
        roots[0] = true;
        sees = options.Sees ?? ["with", "shared", "dispose", "closes", "fail"];
        delivery = options.Service is null ? new ToStream(options, Trouble) : new ToService(options, Trouble);
        writer = new Writer(this, delivery, options);
        orders = options.Service is null || options.Alone ? null : new Orders(this, options);
        writer.Start();
        Set(options.Setting);
        orders?.Start();
        if (options.EndWithProcess)
        {
            AppDomain.CurrentDomain.ProcessExit += AtExit;
            AppDomain.CurrentDomain.UnhandledException += AtFailure;
            interrupt = Interrupted();
        }
    }

    /// <summary>The time in ticks of <see cref="Stopwatch"/>, over 0.</summary>
    internal static long Now => Stopwatch.GetTimestamp() - Origin;

    /// <summary>A timestamp of <see cref="Stopwatch"/> as such a time.</summary>
    internal static long Since(long timestamp) => timestamp - Origin;

    internal static long Ticks(TimeSpan time) => (long)(time.TotalSeconds * Stopwatch.Frequency);

    internal static long Nanoseconds(long ticks) =>
        Stopwatch.Frequency == 1_000_000_000 ? ticks : (long)((Int128)ticks * 1_000_000_000 / Stopwatch.Frequency);

    /// <summary>The id of the stream that is written, empty while recording is off.</summary>
    public string Stream => now?.Stream ?? "";

    /// <summary>Whether anything is recorded at the moment.</summary>
    public bool IsOn => now is not null;

    /// <summary>How it records at the moment.</summary>
    public Setting Setting => now?.Setting ?? Setting.Off;

    /// <summary>The requests of the application, whose scopes they name; null: it has none.</summary>
    internal IRequests? Requests { get; set; }

    /// <summary>What it has done so far.</summary>
    public Totals Totals => writer.Totals(Volatile.Read(ref dropped));

    /// <summary>
    /// Switches recording on or off, or changes how it is done. Switching on begins a new stream, which begins with what is
    /// registered, and what is alive and outlives scopes; scopes that are open already are left out.
    /// </summary>
    public void Set(Setting to)
    {
        ArgumentNullException.ThrowIfNull(to);
        Set(to, "recording was switched off");
    }

    private void Set(Setting to, string? why)
    {
        lock (switching)
        {
            lock (rare)
            {
                Session? was = now;
                if (ended || (!to.On && was is null) || (was is not null && was.Setting == to))
                {
                    return;
                }

                now = null;
                if (was is not null)
                {
                    Control(new ByeEvent { Why = to.On ? "recording goes on in another stream" : why }, was);
                }

                if (to.On)
                {
                    var begun = new Session(to, Volatile.Read(ref scopes) + 1, Volatile.Read(ref insts) + 1, [.. kept.Keys])
                    {
                        Told = new Told([.. setup], [.. kept.OrderBy(e => e.Key).Select(e => e.Value)], untold),
                    };
                    Control(Hello(begun), begun);
                    now = begun;
                }
            }
        }

        writer.Wake();
    }

    // Begins and ends of streams are always noted: there are few of them.
    private void Control(TraceEvent note, Session of)
    {
        note.Of = of;
        note.When = Now;
        Interlocked.Add(ref noted, note.Bytes);
        notes.Enqueue(note);
    }

    private HelloEvent Hello(Session of) => new()
    {
        App = options.App,
        Stream = of.Stream,
        Start = of.Start.ToString("yyyy-MM-dd'T'HH:mm:ss.fffffff'00Z'", CultureInfo.InvariantCulture),
        Version = options.Version,
        Language = ".NET " + Environment.Version,
        Host = Environment.MachineName,
        Pid = Environment.ProcessId,
        Environment = options.Environment,
        Labels = options.Labels.Count == 0 ? null : new Dictionary<string, string>(options.Labels),
        Recorder = "keenlantern-record/dotnet",
        Sees = sees,
    };

    // For the writer.

    internal void Limit(Session of)
    {
        if (now == of)
        {
            Set(Setting.Off, "recording reached its limit");
        }
    }

    internal bool TryTake([System.Diagnostics.CodeAnalysis.NotNullWhen(true)] out TraceEvent? note) => notes.TryDequeue(out note);

    internal void Written(TraceEvent note) => Interlocked.Add(ref noted, -note.Bytes);

    internal bool Calm => Volatile.Read(ref noted) < mostNotes / 2 && !instances.Full;

    internal bool Crowded
    {
        set => crowded = value;
    }

    internal long TakeDropped() => Volatile.Read(ref dropped) == 0 ? 0 : Interlocked.Exchange(ref dropped, 0);

    internal void Collect()
    {
        while (instances.TryTake(out long inst))
        {
            Forget(inst, ForgetBy.Runtime);
        }
    }

    /// <summary>
    /// Records a container whose root scope is one of its own: scope 0 for the first. It returns their ids, which are set in the
    /// event as well.
    /// </summary>
    /// <param name="container">The container.</param>
    /// <param name="within">The container around it, 0 for none.</param>
    public (long Container, long Scope) AddContainer(ContainerEvent container, long within = 0)
    {
        ArgumentNullException.ThrowIfNull(container);
        lock (rare)
        {
            long scope = containers == 0 ? 0 : Interlocked.Increment(ref scopes);
            roots[scope] = true;
            container.Container = ++containers;
            container.Scope = scope;
            container.In = within;
            Remember(container);
            return (container.Container, scope);
        }
    }

    /// <summary>Records a registration, and returns its id.</summary>
    public long Register(RegisterEvent registration)
    {
        ArgumentNullException.ThrowIfNull(registration);
        lock (rare)
        {
            registration.Reg = ++registrations;
            Remember(registration);
            return registration.Reg;
        }
    }

    /// <summary>Records a registration once more, in the place of what was recorded under its id.</summary>
    public void RegisterAgain(long reg, RegisterEvent registration)
    {
        ArgumentNullException.ThrowIfNull(registration);
        lock (rare)
        {
            registration.Reg = reg;
            Remember(registration);
        }
    }

    private void Remember(TraceEvent note)
    {
        int at = -1;
        if (note is RegisterEvent registration)
        {
            lasting[registration.Reg] = registration.Lifetime is Lifetime.Singleton or Lifetime.PerConsumer or Lifetime.External;
            at = registered.GetValueOrDefault(registration.Reg, -1);
        }

        int more = note.Bytes - (at < 0 ? 0 : setup[at].Bytes);
        if (remembered + more > mostRemembered)
        {
            untold++;
        }
        else
        {
            remembered += more;
            if (at >= 0)
            {
                setup[at] = note;
            }
            else
            {
                if (note is RegisterEvent it)
                {
                    registered[it.Reg] = setup.Count;
                }

                setup.Add(note);
            }
        }

        if (now is { } on)
        {
            Note(on, note.Copy());
        }
    }

    /// <summary>Records that a container is gone, and forgets its registrations. Its root scope was closed before.</summary>
    public void ForgetContainer(long container)
    {
        lock (rare)
        {
            setup.RemoveAll(e =>
                (e is ContainerEvent c && c.Container == container) || (e is RegisterEvent r && Math.Max(r.Container, 1) == container));
            registered.Clear();
            for (int n = 0; n < setup.Count; n++)
            {
                if (setup[n] is RegisterEvent r)
                {
                    registered[r.Reg] = n;
                }
            }

            foreach ((long inst, MakeEvent make) in kept)
            {
                if (Math.Max(make.Container, 1) == container)
                {
                    kept.Remove(inst);
                }
            }

            remembered = setup.Sum(e => e.Bytes) + kept.Values.Sum(e => e.Bytes);
        }
    }

    // Whether something that happens in a scope is recorded; it is counted where it would have been.
    private bool In(Session session, long scope)
    {
        if (scope == 0 || scope >= session.FirstScope || roots.ContainsKey(scope))
        {
            return true;
        }

        if (scope == Dropped)
        {
            Interlocked.Increment(ref dropped);
        }

        return false;
    }

    private bool Note(Session of, TraceEvent note)
    {
        int bytes = note.Bytes;
        long after = Interlocked.Add(ref noted, bytes);
        if (after > mostNotes)
        {
            Interlocked.Add(ref noted, -bytes);
            crowded = true;
            Interlocked.Increment(ref dropped);
            writer.Wake();
            return false;
        }

        note.Of = of;
        if (note.When == 0)
        {
            note.When = Now;
        }

        notes.Enqueue(note);
        if (after >> 15 != (after - bytes) >> 15)
        {
            writer.Wake();
        }

        return true;
    }

    /// <summary>
    /// Records that a scope begins and returns its id, <see cref="Unrecorded"/> or below where it is left out. It ends with
    /// <see cref="Close(long)"/>.
    /// </summary>
    public long Open(OpenEvent scope) => Open(scope, null);

    /// <summary>
    /// Records that a scope begins whose name is known later. What happens in it waits to be written, for two seconds at most.
    /// </summary>
    public long Open(OpenEvent scope, LateName? name)
    {
        ArgumentNullException.ThrowIfNull(scope);
        if (now is not { } on)
        {
            return Unrecorded;
        }

        long around = scope.In ?? 0;
        if (!In(on, around))
        {
            return Math.Min(around, Unrecorded); // it is left out with what is around it
        }

        if (on.Setting.Share < 1 && roots.ContainsKey(around) && Random.Shared.NextDouble() >= on.Setting.Share)
        {
            return Unrecorded;
        }

        if (crowded)
        {
            Interlocked.Increment(ref dropped);
            return Dropped;
        }

        scope.Opener = scope.Opener != 0 && on.Knows(scope.Opener) ? scope.Opener : 0;
        scope.Scope = Interlocked.Increment(ref scopes);
        scope.In = around == 0 ? null : around;
        long work = scope.Within ?? Scope;
        scope.Within = work > 0 && work != around && In(on, work) ? work : null; // the work that opens it
        scope.Weight = on.Weight > 1 ? on.Weight : 0;
        scope.LateName = name;
        return Note(on, scope) ? scope.Scope : Dropped;
    }

    /// <summary>Records that a scope has ended: after its instances were disposed, or without their disposal.</summary>
    public void Close(long scope)
    {
        if (now is { } on && In(on, scope))
        {
            Note(on, new CloseEvent { Scope = scope });
        }
    }

    /// <summary>
    /// Records that an instance was built and returns its id, 0 where it is left out. The object is then known by
    /// <see cref="IdOf"/>, and its collection is recorded where that has a meaning.
    /// </summary>
    public long Make(MakeEvent make, object? instance = null)
    {
        ArgumentNullException.ThrowIfNull(make);
        if (lasting.GetValueOrDefault(make.Reg))
        {
            return MakeLasting(make, instance);
        }

        if (now is not { } on)
        {
            return 0;
        }

        bool owned = make.Owner is { } owner && owner != TraceEvent.Nobody;
        if (!In(on, owned ? make.Owner!.Value : make.Scope))
        {
            return 0;
        }

        if (owned && !In(on, make.Scope))
        {
            make.Scope = make.Owner!.Value;
        }

        if (instance is not null && instances.Full)
        {
            crowded = true;
            Interlocked.Increment(ref dropped);
            return 0;
        }

        long inst = make.Inst = Interlocked.Increment(ref insts);
        // Collection of what ends with a scope other than a root adds nothing.
        bool tell = make.Owner == TraceEvent.Nobody || roots.ContainsKey(make.Owner ?? make.Scope);
        if (!Note(on, make))
        {
            return 0;
        }

        if (instance is not null)
        {
            instances.Know(instance, inst, make.Reg, tell);
        }

        return inst;
    }

    // What outlives scopes is kept even while nothing is recorded, to be written when recording begins.
    private long MakeLasting(MakeEvent make, object? instance)
    {
        lock (rare)
        {
            long inst = make.Inst = Interlocked.Increment(ref insts);
            make.When = make.When == 0 ? Now : make.When;
            if (remembered + make.Bytes > mostRemembered)
            {
                untold++;
            }
            else
            {
                var later = (MakeEvent)make.Copy();
                later.Scope = roots.ContainsKey(make.Scope) ? make.Scope : 0; // a later stream does not know of it
                remembered += later.Bytes;
                kept[inst] = later;
            }

            if (instance is not null && !instances.Full)
            {
                instances.Know(instance, inst, make.Reg, tell: true);
            }

            if (now is { } on)
            {
                make.Scope = In(on, make.Scope) ? make.Scope : 0; // of work that is not recorded
                Note(on, make);
            }

            return inst;
        }
    }

    /// <summary>Returns the instance that an object is, 0 where it is not known.</summary>
    public long IdOf(object? instance) => instances.Of(instance);

    /// <summary>Registers a proxy under the identity of its instance.</summary>
    internal void Know(object standing, Identity identity) => instances.Know(standing, identity.Inst, identity.Reg, tell: false);

    /// <summary>Returns the instance and the registration that an object is.</summary>
    internal Identity IdentityOf(object instance) => instances.IdentityOf(instance);

    /// <summary>Records that an instance was handed out, other than to its consumer's constructor.</summary>
    public void Give(GiveEvent give)
    {
        ArgumentNullException.ThrowIfNull(give);
        if (now is { } on && give.Inst != 0 && on.Knows(give.Inst) && In(on, give.Scope ?? 0))
        {
            give.To = give.To != 0 && on.Knows(give.To) ? give.To : 0;
            Note(on, give);
        }
    }

    /// <summary>Records a call on an instance.</summary>
    public void Use(UseEvent use)
    {
        ArgumentNullException.ThrowIfNull(use);
        if (now is { } on && use.Inst != 0 && on.Knows(use.Inst) && In(on, use.Scope ?? 0))
        {
            use.By = use.By != 0 && on.Knows(use.By) ? use.By : 0;
            Note(on, use);
        }
    }

    /// <summary>Records that an instance's disposal begins.</summary>
    public void Disposing(long inst, long scope, DisposeBy by = DisposeBy.Container) =>
        Dispose(inst, scope, by, State.Begun, TimeSpan.Zero, null);

    /// <summary>
    /// Records that an instance was disposed. Of a failure the name of its type is recorded and never its message, which may hold
    /// anything.
    /// </summary>
    /// <param name="instance">The object; null: it is known by its id alone.</param>
    /// <param name="inst">Its id.</param>
    /// <param name="scope">The scope in which it was disposed.</param>
    /// <param name="took">How long that took; zero: not known.</param>
    /// <param name="failure">What its disposal threw, null for nothing.</param>
    /// <param name="by">What disposed it.</param>
    public void Disposed(
        object? instance,
        long inst,
        long scope,
        TimeSpan took = default,
        Exception? failure = null,
        DisposeBy by = DisposeBy.Container)
    {
        if (instance is not null && failure is null)
        {
            instances.Ended(instance);
        }

        Dispose(inst, scope, by, failure is null ? State.Done : State.Failed, took, failure);
    }

    /// <summary>Records that a pooled instance went back to its pool: its lease has ended.</summary>
    public void Returned(long inst, long scope) => Dispose(inst, scope, DisposeBy.Container, State.Returned, TimeSpan.Zero, null);

    private void Dispose(long inst, long scope, DisposeBy by, State state, TimeSpan took, Exception? failure)
    {
        Session? on = state == State.Done ? LetGo(inst) : now;
        if (inst == 0 || on is null || !on.Knows(inst))
        {
            return;
        }

        Note(on, new DisposeEvent
        {
            Inst = inst,
            Scope = In(on, scope) ? scope : 0,
            By = by == DisposeBy.Container ? null : by,
            State = state == State.Done ? null : state,
            Ns = took > TimeSpan.Zero ? (long)(took.TotalMilliseconds * 1e6) : null,
            Error = failure is null ? null : TypeNames.Of(failure.GetType()),
        });
    }

    // What is written at the beginning of a stream, and what ends, is one or the other.
    private Session? LetGo(long inst)
    {
        lock (rare)
        {
            if (kept.Remove(inst, out MakeEvent? was))
            {
                remembered -= was.Bytes;
            }

            return now;
        }
    }

    /// <summary>Records that an instance is gone without having been disposed.</summary>
    public void Forget(long inst, ForgetBy by)
    {
        Session? on = inst == 0 ? null : LetGo(inst);
        if (on is not null && on.Knows(inst))
        {
            Note(on, new ForgetEvent { Inst = inst, By = by });
        }
    }

    /// <summary>Records that something could not be built.</summary>
    public void Fail(FailEvent fail)
    {
        ArgumentNullException.ThrowIfNull(fail);
        if (now is not { } on || !In(on, fail.Scope ?? 0))
        {
            return;
        }

        if (fail.Why == FailWhy.Missing)
        {
            unregistered.Name(fail);
        }

        Note(on, fail);
    }

    /// <summary>
    /// Returns how a trace writes a key: a text as it is, anything else as its type in parentheses and its value. An object without
    /// its own value is numbered.
    /// </summary>
    public string KeyText(object? key) => keys.Text(key);

    /// <summary>The scope of the work that runs here, 0 where none is known. It follows asynchronous calls.</summary>
    public long Scope => working.Value;

    /// <summary>The scope of the work or of the request that runs here, 0 where none is known.</summary>
    internal long Here => working.Value is not 0 and var scope ? scope : Requests?.Current?.Scope ?? 0;

    /// <summary>The interfaces whose instances' calls are recorded.</summary>
    internal ICollection<Type> Uses => options.Uses;

    /// <summary>Makes a scope the current one, until the returned value is disposed.</summary>
    public Entered Enter(long scope)
    {
        long was = working.Value;
        working.Value = scope;
        return new Entered(this, was);
    }

    /// <summary>Work in a scope. Disposing it goes back to the scope of before.</summary>
    public readonly struct Entered : IDisposable, IEquatable<Entered>
    {
        private readonly Recorder? of;
        private readonly long was;

        internal Entered(Recorder of, long was)
        {
            this.of = of;
            this.was = was;
        }

        /// <inheritdoc/>
        public void Dispose()
        {
            if (of is not null)
            {
                of.working.Value = was;
            }
        }

        /// <inheritdoc/>
        public bool Equals(Entered other) => of == other.of && was == other.was;

        /// <inheritdoc/>
        public override bool Equals(object? obj) => obj is Entered other && Equals(other);

        /// <inheritdoc/>
        public override int GetHashCode() => HashCode.Combine(of, was);

        /// <summary>Whether both are the same.</summary>
        public static bool operator ==(Entered left, Entered right) => left.Equals(right);

        /// <summary>Whether they differ.</summary>
        public static bool operator !=(Entered left, Entered right) => !left.Equals(right);
    }

    /// <summary>Does some work in its own scope: a job, a step, a message.</summary>
    public async Task RunAsync(string kind, string name, Func<Task> work)
    {
        ArgumentNullException.ThrowIfNull(work);
        long scope = Open(new OpenEvent { In = Scope, Kind = kind, Name = name, Trace = TraceId() });
        using Entered _ = Enter(scope);
        try
        {
            await work().ConfigureAwait(false);
        }
        finally
        {
            Close(scope);
        }
    }

    /// <summary>Does some work in its own scope: a job, a step, a message.</summary>
    public void Run(string kind, string name, Action work)
    {
        ArgumentNullException.ThrowIfNull(work);
        long scope = Open(new OpenEvent { In = Scope, Kind = kind, Name = name, Trace = TraceId() });
        using Entered _ = Enter(scope);
        try
        {
            work();
        }
        finally
        {
            Close(scope);
        }
    }

    /// <summary>Returns the W3C trace-id of the current activity; null where there is none.</summary>
    public static string? TraceId() =>
        Activity.Current is { IdFormat: ActivityIdFormat.W3C } activity ? activity.TraceId.ToHexString() : null;

    /// <summary>Reports trouble with recording, at most one each second.</summary>
    internal void Trouble(Exception problem)
    {
        long at = Now;
        long before = Interlocked.Read(ref warned);
        if ((before != 0 && at - before < Stopwatch.Frequency) || Interlocked.CompareExchange(ref warned, at, before) != before)
        {
            return;
        }

        try
        {
            if (options.Problem is not null)
            {
                options.Problem(problem);
            }
            else if (before == 0)
            {
                Console.Error.WriteLine("recording for Keen Lantern: " + problem.Message);
            }
        }
        catch (Exception)
        {
            // The application's handler throws.
        }
    }

    private void AtExit(object? sender, EventArgs e) => CloseQuietly(TimeSpan.FromSeconds(2));

    // Such as an application whose container refuses its registrations: the process ends without telling that it exits.
    private void AtFailure(object sender, UnhandledExceptionEventArgs e)
    {
        if (e.IsTerminating)
        {
            CloseQuietly(TimeSpan.FromSeconds(2), "an exception was not handled: " + TypeNames.Of(e.ExceptionObject.GetType()));
        }
    }

    // A process without a handler of its own ends here: it sends what it saw. A host's handler ends the process in good order.
    private PosixSignalRegistration? Interrupted()
    {
        try
        {
            return PosixSignalRegistration.Create(PosixSignal.SIGINT, _ => Flush(TimeSpan.FromSeconds(1)));
        }
        catch (Exception e) when (e is PlatformNotSupportedException or IOException)
        {
            return null;
        }
    }

    private void CloseQuietly(TimeSpan within, string? why = null)
    {
        try
        {
            Close(within, why);
        }
        catch (Exception e)
        {
            Trouble(e);
        }
    }

    /// <summary>Sends what was recorded so far, and returns whether all of it was taken within that time.</summary>
    public bool Flush(TimeSpan within)
    {
        long began = Stopwatch.GetTimestamp();
        return writer.Flush(within) && delivery.Idle(within - Stopwatch.GetElapsedTime(began));
    }

    /// <summary>Ends the recording within ten seconds. What could not be delivered is reported as trouble.</summary>
    public void Dispose() => CloseQuietly(TimeSpan.FromSeconds(10));

    /// <summary>Ends the recording and delivers what is left. Events after it are ignored.</summary>
    /// <param name="within">The most time that it takes.</param>
    /// <param name="why">Why the application ends, null where there is nothing to say.</param>
    /// <exception cref="IOException">Not everything was taken within that time; the message says how much.</exception>
    public void Close(TimeSpan within, string? why = null)
    {
        long began = Stopwatch.GetTimestamp();
        Set(Setting.Off, why);
        lock (rare)
        {
            if (ended)
            {
                return;
            }

            ended = true;
        }

        Requests?.Dispose();
        orders?.End();
        AppDomain.CurrentDomain.ProcessExit -= AtExit;
        AppDomain.CurrentDomain.UnhandledException -= AtFailure;
        interrupt?.Dispose();
        writer.End(within);
        TimeSpan left = within - Stopwatch.GetElapsedTime(began);
        delivery.End(left > TimeSpan.Zero ? left : TimeSpan.Zero);
    }
}
