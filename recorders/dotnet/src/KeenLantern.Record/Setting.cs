namespace KeenLantern.Record;

/// <summary>Whether and how a recorder records.</summary>
public sealed record Setting
{
    /// <summary>Nothing is recorded.</summary>
    public static readonly Setting Off = new() { On = false };

    /// <summary>Everything is recorded.</summary>
    public static readonly Setting Everything = new();

    private readonly double share = 1;

    /// <summary>Whether it records.</summary>
    public bool On { get; init; } = true;

    /// <summary>The part of the scopes that is recorded, over 0 up to 1.</summary>
    /// <exception cref="ArgumentOutOfRangeException">It is not within these bounds.</exception>
    public double Share
    {
        get => share;
        init => share = value is > 0 and <= 1
            ? value
            : throw new ArgumentOutOfRangeException(nameof(value), value, "set recording: share is over 0, and 1 at most");
    }

    /// <summary>Recording ends after so long; zero: it does not.</summary>
    public TimeSpan Time { get; init; }

    /// <summary>Recording ends after so many bytes of lines; 0: it does not.</summary>
    public long Bytes { get; init; }
}

/// <summary>What a recorder has done so far.</summary>
/// <param name="Events">Lines written.</param>
/// <param name="Lost">Events left out for want of memory.</param>
/// <param name="Bytes">Bytes of lines.</param>
/// <param name="Batches">Batches delivered.</param>
public readonly record struct Totals(long Events, long Lost, long Bytes, long Batches);
