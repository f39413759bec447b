namespace KeenLantern.Record;

/// <summary>Turns notes into lines, and lines into batches: the recorder's one thread.</summary>
internal sealed class Writer
{
    private const int MaxLine = 1 << 20;
    private const int MaxWaiting = 1024; // scopes whose names are waited for
    private const int MaxHeld = 2048; // notes of one of them

    private static readonly long NameWait = Recorder.Ticks(TimeSpan.FromSeconds(2));

    private readonly Recorder recorder;
    private readonly IDelivery delivery;
    private readonly RecorderOptions options;
    private readonly Thread thread;
    private readonly AutoResetEvent woken = new(false);
    private readonly Line line = new(64 << 10);
    private Session? current;
    private bool limited; // one of its limits is reached
    private long cutAt;
    private readonly Dictionary<long, Waiting> waiting = []; // by the scopes that wait, and those inside them
    private int held; // notes that wait for names
    private volatile bool ending;
    private volatile bool over;
    private int wanted; // 1: it was woken
    private TaskCompletionSource? flushing;
    private long events;
    private long lost;
    private long bytes;

    /// <summary>A scope whose name is not known yet. What happens in it is written behind it.</summary>
    private sealed class Waiting(OpenEvent open)
    {
        internal OpenEvent Open => open;

        internal LateName Name => open.LateName!;

        internal List<long> Ids { get; } = [open.Scope]; // its own, and those of the scopes inside it

        internal List<TraceEvent> Held { get; } = [];
    }

    internal Writer(Recorder recorder, IDelivery delivery, RecorderOptions options)
    {
        this.recorder = recorder;
        this.delivery = delivery;
        this.options = options;
        thread = new Thread(Run) { Name = "keenlantern", IsBackground = true };
    }

    internal void Start() => thread.UnsafeStart(); // without the context of the code that starts it

    internal void Wake()
    {
        if (Volatile.Read(ref wanted) == 0 && Interlocked.Exchange(ref wanted, 1) == 0)
        {
            woken.Set();
        }
    }

    internal Totals Totals(long dropped) =>
        new(Volatile.Read(ref events), Volatile.Read(ref lost) + dropped, Volatile.Read(ref bytes), delivery.Delivered);

    private void Run()
    {
        while (!Turn())
        {
            double wait = current is null ? 1000 : Math.Min(options.FlushWait.TotalMilliseconds, 100);
            woken.WaitOne(TimeSpan.FromMilliseconds(Math.Max(1, wait)));
            Volatile.Write(ref wanted, 0);
        }

        over = true;
        Interlocked.Exchange(ref flushing, null)?.TrySetResult();
    }

    // Writes what was noted; true: it was the last time.
    private bool Turn()
    {
        bool last = ending;
        TaskCompletionSource? flush = Interlocked.Exchange(ref flushing, null);
        try
        {
            recorder.Collect();
            while (Room && recorder.TryTake(out TraceEvent? note))
            {
                Write(note);
                recorder.Written(note);
                if (line.Size >= options.BatchSize)
                {
                    Cut();
                }
            }

            Settle(last || flush is not null);
            TellGap();
            if (last || flush is not null || Recorder.Now - cutAt >= Recorder.Ticks(options.FlushWait))
            {
                Cut();
            }

            if (current is not null)
            {
                Limited();
            }

            recorder.Crowded = !(recorder.Calm && delivery.Calm);
        }
        catch (Exception e) // the next turn may do better
        {
            recorder.Trouble(e);
        }

        flush?.TrySetResult();
        return last;
    }

    // While there is no room for lines, notes stay where they are, and what does not fit there is dropped there.
    private bool Room => delivery.Room || ending;

    private void Write(TraceEvent note)
    {
        switch (note)
        {
            case HelloEvent hello:
                Begin(hello);
                break;
            case ByeEvent bye:
                End(bye);
                break;
            default:
                if (note.Of != current)
                {
                    Stray(note);
                }
                else if (!Limited())
                {
                    One(note);
                }

                break;
        }
    }

    private void One(TraceEvent note)
    {
        if (OfStray(note))
        {
            return;
        }

        Waiting? wait = waiting.Count == 0 ? null : waiting.GetValueOrDefault(ScopeOf(note));
        bool closes = wait is not null && note is CloseEvent close && close.Scope == wait.Open.Scope;
        if (wait is not null && !closes && !wait.Name.Settled)
        {
            wait.Held.Add(note);
            if (note is OpenEvent inner)
            {
                wait.Ids.Add(inner.Scope);
                waiting[inner.Scope] = wait;
            }

            // What is held is memory like the notes themselves.
            if (++held > options.Memory / 1024)
            {
                Settle(all: true);
            }
            else if (wait.Held.Count >= MaxHeld)
            {
                Settle(wait);
            }

            return;
        }

        if (wait is not null)
        {
            Settle(wait);
        }

        if (note is OpenEvent { LateName: { } name } open)
        {
            if (!name.Settled)
            {
                waiting[open.Scope] = new Waiting(open);
                if (waiting.Count > MaxWaiting)
                {
                    Settle(all: true);
                }

                return;
            }

            open.Name = name.Name;
        }

        TellGap();
        Put(note, note.When - current!.Began);
    }

    private static long ScopeOf(TraceEvent note) => note switch
    {
        MakeEvent make => make.Scope,
        CloseEvent close => close.Scope,
        GiveEvent give => give.Scope ?? 0,
        UseEvent use => use.Scope ?? 0,
        DisposeEvent dispose => dispose.Scope ?? 0,
        OpenEvent open => open.In ?? 0,
        FailEvent fail => fail.Scope ?? 0,
        _ => 0,
    };

    // Writes the scopes whose names are known by now, or will not be waited for any longer.
    private void Settle(bool all)
    {
        foreach (Waiting wait in waiting.Count == 0 ? [] : waiting.Values.Distinct().ToArray())
        {
            if (all || wait.Name.Settled || Recorder.Now - wait.Open.When > NameWait)
            {
                Settle(wait);
            }
        }
    }

    private void Settle(Waiting wait)
    {
        foreach (long id in wait.Ids)
        {
            waiting.Remove(id);
        }

        held -= wait.Held.Count;
        wait.Open.Name = wait.Name.Name;
        Put(wait.Open, wait.Open.When - current!.Began);
        foreach (TraceEvent note in wait.Held)
        {
            One(note);
        }
    }

    // Events after a limit are not written: the bye says why.
    private bool Limited()
    {
        if (!limited && current!.Over)
        {
            limited = true;
            recorder.Limit(current);
        }

        return limited;
    }

    // It was noted while its stream was being ended: what it begins is not known in the stream that goes on.
    private void Stray(TraceEvent note)
    {
        switch (note)
        {
            case OpenEvent open:
                current?.Strays.Add(~open.Scope);
                break;
            case MakeEvent make:
                current?.Strays.Add(make.Inst);
                break;
        }
    }

    private bool OfStray(TraceEvent note)
    {
        HashSet<long> strays = current!.Strays;
        return strays.Count > 0 && note switch
        {
            OpenEvent open => strays.Contains(~(open.In ?? 0)),
            CloseEvent close => strays.Contains(~close.Scope),
            MakeEvent make => strays.Contains(~make.Scope),
            GiveEvent give => strays.Contains(give.Inst),
            UseEvent use => strays.Contains(use.Inst),
            DisposeEvent dispose => strays.Contains(dispose.Inst),
            ForgetEvent forget => strays.Contains(forget.Inst),
            FailEvent fail => strays.Contains(~(fail.Scope ?? 0)),
            _ => false,
        };
    }

    private void Begin(HelloEvent hello)
    {
        current = hello.Of!;
        limited = false;
        Put(hello, 0);
        Recorder.Told told = current.Told!;
        current.Told = null;
        foreach (TraceEvent setup in told.Setup)
        {
            Put(setup, 0);
        }

        if (told.Untold > 0)
        {
            Gap(told.Untold, 0);
        }

        foreach (MakeEvent make in told.Kept)
        {
            Put(make.Copy(), make.When - current.Began);
        }

        cutAt = Recorder.Now;
    }

    // It is always written: it is small, and without it all that is open would be unknown.
    private void End(ByeEvent bye)
    {
        if (current is null)
        {
            return;
        }

        Settle(all: true);
        TellGap();
        Append(bye, bye.When - current.Began);
        Cut();
        current = null;
    }

    private void TellGap()
    {
        long dropped = current is null ? 0 : recorder.TakeDropped();
        if (dropped > 0)
        {
            Volatile.Write(ref lost, lost + dropped);
            Gap(dropped, Recorder.Now - current!.Began);
        }
    }

    private void Gap(long count, long t) => Append(new GapEvent { Lost = count, Why = "no memory left" }, t);

    private void Put(TraceEvent note, long t)
    {
        // Of what it was given, an instance that this stream does not know is not recorded.
        if (note is MakeEvent { With: { } with } make && !(with is InstanceIds ids ? Know(ids) : with.All(Knows)))
        {
            make.With = with.Select(Known).ToList();
        }

        Append(note, t);
    }

    private bool Know(InstanceIds ids)
    {
        foreach (long id in ids.Span)
        {
            if (id != 0 && !current!.Knows(id))
            {
                return false;
            }
        }

        return true;
    }

    private bool Knows(object? given) => given switch
    {
        long id => id == 0 || current!.Knows(id),
        Given one => one.Inst == 0 || current!.Knows(one.Inst),
        IReadOnlyList<object?> several => several.All(Knows),
        _ => true,
    };

    private object? Known(object? given) => given switch
    {
        _ when Knows(given) => given,
        Given one => one with { Inst = 0 },
        IReadOnlyList<object?> several => several.Select(Known).ToList(),
        _ => 0L,
    };

    private void Append(TraceEvent note, long t)
    {
        int before = line.Size;
        try
        {
            note.Write(line, Recorder.Nanoseconds(t));
            if (line.Size - before <= MaxLine)
            {
                Volatile.Write(ref events, events + 1);
                current!.Bytes += line.Size - before;
                return;
            }
        }
        catch (Exception e) // it holds what cannot be written
        {
            recorder.Trouble(e);
        }

        line.Size = before;
        Volatile.Write(ref lost, lost + 1);
        Gap(1, t);
    }

    private void Cut()
    {
        cutAt = Recorder.Now;
        if (current is null || line.Size == 0)
        {
            return;
        }

        Volatile.Write(ref bytes, bytes + line.Size);
        delivery.Add(current, line.Written);
        line.Size = 0;
    }

    /// <summary>Writes and hands over all that was noted; it returns whether that was done in time.</summary>
    internal bool Flush(TimeSpan within)
    {
        if (over)
        {
            return true;
        }

        var mine = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        TaskCompletionSource done = Interlocked.CompareExchange(ref flushing, mine, null) ?? mine;
        woken.Set();
        return done.Task.Wait(within) || over;
    }

    /// <summary>Writes the last of it, and ends.</summary>
    internal void End(TimeSpan within)
    {
        ending = true;
        woken.Set();
        thread.Join(within);
    }
}
