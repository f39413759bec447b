namespace KeenLantern.Record;

/// <summary>A stretch of recording: from its hello to its bye.</summary>
internal sealed class Session(Setting setting, long firstScope, long firstInst, HashSet<long> told)
{
    internal string Stream { get; } = Guid.NewGuid().ToString();

    internal Setting Setting => setting;

    internal DateTime Start { get; } = DateTime.UtcNow;

    internal long Began { get; } = Recorder.Now;

    internal long FirstScope => firstScope;

    /// <summary>What its hello is followed by, until that is written.</summary>
    internal Recorder.Told? Told { get; set; }

    /// <summary>Scopes and instances (as ~id and id) that were noted while an earlier stream ended: the writer's.</summary>
    internal HashSet<long> Strays { get; } = [];

    internal long Weight { get; } = (long)Math.Round(1 / setting.Share);

    internal long Bytes { get; set; } // the writer's

    internal int Sent { get; set; } // batches accepted: the sender's

    internal volatile bool Refused;

    /// <summary>Whether one of its limits is reached.</summary>
    internal bool Over =>
        (setting.Bytes > 0 && Bytes >= setting.Bytes) ||
        (setting.Time > TimeSpan.Zero && Recorder.Now - Began >= Recorder.Ticks(setting.Time));

    /// <summary>Whether the stream knows an instance.</summary>
    internal bool Knows(long inst) => inst >= firstInst || told.Contains(inst);
}
