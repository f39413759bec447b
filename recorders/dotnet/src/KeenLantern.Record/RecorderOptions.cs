namespace KeenLantern.Record;

/// <summary>What is recorded, and where it goes: to a service, a file or a stream.</summary>
public sealed class RecorderOptions
{
    /// <summary>The application's name. It has to be set.</summary>
    public string App { get; set; } = "";

    /// <summary>The application's version.</summary>
    public string? Version { get; set; }

    /// <summary>Such as "production" or "test".</summary>
    public string? Environment { get; set; }

    /// <summary>Labels that help to distinguish recordings.</summary>
    public IDictionary<string, string> Labels { get; } = new Dictionary<string, string>();

    /// <summary>
    /// What is seen, see the trace format; null: what adapters see, which is neither calls nor hand-outs of what exists already.
    /// </summary>
    public IReadOnlyList<string>? Sees { get; set; }

    /// <summary>The address of a Keen Lantern service, such as <c>http://lantern:7460</c>.</summary>
    public Uri? Service { get; set; }

    /// <summary>The bearer token, where the service asks for one.</summary>
    public string? Token { get; set; }

    /// <summary>A file that does not exist yet; it is compressed where its name ends in <c>.gz</c>.</summary>
    public string? File { get; set; }

    /// <summary>A stream to record to. It is flushed and not closed.</summary>
    public Stream? Output { get; set; }

    /// <summary>How it records until the service, or <see cref="Recorder.Set(Setting)"/>, says otherwise.</summary>
    public Setting Setting { get; set; } = Setting.Everything;

    /// <summary>The service does not switch this recorder: it is not asked.</summary>
    public bool Alone { get; set; }

    /// <summary>
    /// Writes <c>(not registered)</c> for every service or key that is asked for and not registered, which may come from a request.
    /// Otherwise the first 256 different ones are written.
    /// </summary>
    public bool HideUnregistered { get; set; }

    /// <summary>
    /// Interfaces whose instances' calls are recorded, of registrations in the default container: something that implements the interface and
    /// calls the instance is handed out in its place. Where the class is asked for, the instance itself is.
    /// </summary>
    public ICollection<Type> Uses { get; init; } = [];

    /// <summary>The most memory that it takes up, in bytes; at least 256 KiB.</summary>
    public int Memory { get; set; } = 8 << 20;

    /// <summary>The size in bytes of lines at which a batch is sent without waiting.</summary>
    public int BatchSize { get; set; } = 1 << 20;

    /// <summary>How long an event waits for its batch to fill.</summary>
    public TimeSpan FlushWait { get; set; } = TimeSpan.FromMilliseconds(200);

    /// <summary>How long the service may take to answer.</summary>
    public TimeSpan Timeout { get; set; } = TimeSpan.FromSeconds(10);

    /// <summary>The end of the process ends the recording, within two seconds.</summary>
    public bool EndWithProcess { get; set; } = true;

    /// <summary>Is given each trouble with recording, at most one each second; null: the first goes to standard error.</summary>
    public Action<Exception>? Problem { get; set; }

    internal RecorderOptions Checked()
    {
        if (string.IsNullOrWhiteSpace(App))
        {
            throw new ArgumentException("start recording: App is empty; set it to the application's name");
        }

        if ((Service is null ? 0 : 1) + (File is null ? 0 : 1) + (Output is null ? 0 : 1) != 1)
        {
            throw new ArgumentException("start recording: set one of Service, File and Output");
        }

        if (Service is not null && !(Service.IsAbsoluteUri && Service.Scheme is "http" or "https"))
        {
            throw new ArgumentException($"start recording: Service is '{Service}'; set an address such as http://lantern:7460");
        }

        var copy = (RecorderOptions)MemberwiseClone();
        copy.Memory = Math.Max(256 << 10, Memory);
        return copy;
    }
}
