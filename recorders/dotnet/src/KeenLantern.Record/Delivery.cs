using System.IO.Compression;
using System.Text.Json;

namespace KeenLantern.Record;

/// <summary>Takes batches, one after the other, from the writer's thread.</summary>
internal interface IDelivery
{
    /// <summary>Whether there is room for another batch.</summary>
    bool Room { get; }

    /// <summary>Whether there is plenty of room.</summary>
    bool Calm { get; }

    long Delivered { get; }

    void Add(Session of, ReadOnlyMemory<byte> lines);

    /// <summary>Waits until everything is delivered, and returns whether it is.</summary>
    bool Idle(TimeSpan within);

    /// <summary>Ends when all is delivered, or the time is over.</summary>
    /// <exception cref="IOException">Something was not taken.</exception>
    void End(TimeSpan within);
}

/// <summary>Sends batches to a service, each until it is accepted. It uses no thread while it waits.</summary>
internal sealed class ToService(RecorderOptions options, Action<Exception> trouble) : IDelivery
{
    private const int FirstRetry = 100; // ms
    private const int LastRetry = 5000; // ms
    private const int LastTries = 5; // how often a batch is tried while ending

    private readonly int most = options.Memory / 8;
    private readonly Exchange exchange = new(options.Service!, options.Token);
    private readonly Queue<(Session Of, byte[] Packed)> queue = new(); // its own lock
    private readonly CancellationTokenSource ending = new();
    private readonly CancellationTokenSource over = new(); // requests in flight are abandoned
    private bool sending;
    private long held; // bytes of packed batches
    private long givenUp; // bytes of those that were refused
    private long delivered;

    public bool Room => Volatile.Read(ref held) < most;

    public bool Calm => Volatile.Read(ref held) < most / 2;

    public long Delivered => Volatile.Read(ref delivered);

    public void Add(Session of, ReadOnlyMemory<byte> lines)
    {
        var packed = new MemoryStream();
        using (var gzip = new GZipStream(packed, CompressionLevel.Fastest, leaveOpen: true))
        {
            gzip.Write(lines.Span);
        }

        lock (queue)
        {
            queue.Enqueue((of, packed.ToArray()));
            held += packed.Length;
            if (!sending)
            {
                sending = true;
                _ = Task.Run(SendAllAsync); // by the writer's thread, which has no context of the application's
            }
        }
    }

    private async Task SendAllAsync()
    {
        while (true)
        {
            (Session Of, byte[] Packed) batch;
            lock (queue)
            {
                if (!queue.TryPeek(out batch))
                {
                    sending = false;
                    Monitor.PulseAll(queue);
                    return;
                }
            }

            bool taken = !batch.Of.Refused && await SendAsync(batch.Of, batch.Packed).ConfigureAwait(false);
            lock (queue)
            {
                queue.Dequeue();
                held -= batch.Packed.Length;
                if (taken)
                {
                    delivered++;
                }
                else
                {
                    batch.Of.Refused = true; // a later stream may still be taken
                    givenUp += batch.Packed.Length;
                }
            }
        }
    }

    private async Task<bool> SendAsync(Session of, byte[] packed)
    {
        int wait = FirstRetry;
        for (int tries = 0; ; tries++)
        {
            int n = of.Sent + 1;
            var after = TimeSpan.Zero;
            bool refused = false;
            try
            {
                Exchange.Answer answer = await exchange.PutAsync(
                    $"/api/v1/streams/{of.Stream}/batches/{n}",
                    packed,
                    "application/x-ndjson",
                    packed: true,
                    options.Timeout,
                    4096,
                    over.Token).ConfigureAwait(false);
                int status = (int)answer.Status;
                if (status >= 400)
                {
                    // Only a problem document of the service is final: the error page of a proxy may be temporary.
                    refused = status is not 429 and < 500 && answer.ContentType == "application/problem+json";
                    after = answer.RetryAfter;
                    throw new IOException($"{status}: {answer.Body}");
                }

                after = TimeSpan.FromMilliseconds(LastRetry);
                answer.OfService();
                // Only the service's own word that it has just this batch counts: a proxy's page is no acknowledgement.
                if (Exchange.Object(answer.Body) is not { } said ||
                    !said.TryGetProperty("stream", out JsonElement stream) || stream.ToString() != of.Stream ||
                    !said.TryGetProperty("batch", out JsonElement batch) || !batch.TryGetInt32(out int taken) || taken != n)
                {
                    throw new IOException(
                        $"what answers at {options.Service} does not acknowledge the batch; is that a Keen Lantern service?");
                }

                of.Sent++;
                return true;
            }
            catch (Exception e) // of any kind: the loop has to go on
            {
                trouble(new IOException($"send batch {n} of the recording: {e.Message}", e));
                bool last = ending.IsCancellationRequested && tries >= LastTries;
                if (refused || over.IsCancellationRequested || last)
                {
                    return false;
                }
            }

            double rest = Math.Max(Jitter(wait), Math.Min(after.TotalMilliseconds, LastRetry));
            bool stopping = ending.IsCancellationRequested;
            await RestAsync(stopping ? Math.Min(rest, 1000) : rest, stopping ? over.Token : ending.Token).ConfigureAwait(false);
            wait = Math.Min(2 * wait, LastRetry);
        }
    }

    private static async Task RestAsync(double ms, CancellationToken stop)
    {
        try
        {
            await Task.Delay(TimeSpan.FromMilliseconds(ms), stop).ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            // It is woken early.
        }
    }

    /// <summary>Spreads a wait over half of its length, so that many recorders do not try again at the same moment.</summary>
    internal static double Jitter(double wait) => (wait / 2) + (Random.Shared.NextDouble() * wait);

    public bool Idle(TimeSpan within)
    {
        long until = Environment.TickCount64 + (long)within.TotalMilliseconds;
        lock (queue)
        {
            while (sending)
            {
                long left = until - Environment.TickCount64;
                if (left <= 0 || !Monitor.Wait(queue, TimeSpan.FromMilliseconds(left)))
                {
                    return !sending;
                }
            }

            return true;
        }
    }

    public void End(TimeSpan within)
    {
        ending.Cancel();
        bool late = !Idle(within);
        over.Cancel();
        long rest;
        lock (queue)
        {
            rest = held + givenUp;
        }

        if (!late)
        {
            exchange.Dispose();
        }

        if (rest > 0)
        {
            throw new IOException(
                $"deliver the rest of the recording: {rest} bytes were {(late ? "not taken in time" : "refused")}");
        }
    }
}

/// <summary>Writes batches to a file or a stream.</summary>
internal sealed class ToStream : IDelivery
{
    private readonly Action<Exception> trouble;
    private readonly Stream to;
    private readonly bool own;
    private IOException? broken;

    internal ToStream(RecorderOptions options, Action<Exception> trouble)
    {
        this.trouble = trouble;
        own = options.File is not null;
        to = options.File is null ? options.Output! : Create(options.File);
    }

    // What is there already is not written over, and no other user reads it.
    private static Stream Create(string file)
    {
        if (file.EndsWith(".zst", StringComparison.Ordinal))
        {
            throw new IOException($"record to {file}: only .gz is compressed here; choose such a name");
        }

        if (System.IO.File.Exists(file))
        {
            throw new IOException($"record to {file}: the file is there already; choose another name");
        }

        var how = new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write, Share = FileShare.Read };
        if (!OperatingSystem.IsWindows())
        {
            how.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        }

        var stream = new FileStream(file, how);
        return file.EndsWith(".gz", StringComparison.Ordinal) ? new GZipStream(stream, CompressionLevel.Fastest) : stream;
    }

    public bool Room => true;

    public bool Calm => true;

    public long Delivered { get; private set; }

    public void Add(Session of, ReadOnlyMemory<byte> lines)
    {
        if (broken is not null)
        {
            return;
        }

        try
        {
            to.Write(lines.Span);
            to.Flush(); // a reader of the file sees what there is
            Delivered++;
        }
        catch (Exception e) // the stream is the application's
        {
            broken = new IOException($"write the recording: {e.Message}", e);
            trouble(broken);
        }
    }

    public bool Idle(TimeSpan within) => broken is null;

    public void End(TimeSpan within)
    {
        if (own)
        {
            to.Dispose();
        }

        if (broken is not null)
        {
            throw broken;
        }
    }
}
