using System.Globalization;
using System.Net;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;

namespace KeenLantern.Record;

/// <summary>Requests to one service.</summary>
internal sealed class Exchange : IDisposable
{
    private readonly HttpClient client;
    private readonly string service;

    internal Exchange(Uri service, string? token)
    {
        this.service = service.AbsoluteUri.TrimEnd('/');
        client = new HttpClient(new SocketsHttpHandler
        {
            AllowAutoRedirect = false, // a redirect would take the token along
            UseCookies = false,
            ActivityHeadersPropagator = null, // the application's own tracing does not see these requests
            PooledConnectionLifetime = TimeSpan.FromMinutes(10), // the service's address may change
        })
        {
            Timeout = System.Threading.Timeout.InfiniteTimeSpan,
        };
        if (token is not null)
        {
            client.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token);
        }
    }

    /// <summary>What the service answered.</summary>
    internal readonly record struct Answer(HttpStatusCode Status, string? ContentType, TimeSpan RetryAfter, string Body)
    {
        /// <summary>Throws unless the answer is one of the service's API.</summary>
        internal void OfService()
        {
            if ((int)Status is >= 300 and < 400)
            {
                throw new IOException($"{(int)Status} to another address, which is not followed; set Service to where the service is");
            }

            if (Status != HttpStatusCode.OK || ContentType != "application/json")
            {
                throw new IOException(
                    $"the answer is {(int)Status} with content type {ContentType ?? "none"}; is that a Keen Lantern service?");
            }
        }
    }

    /// <summary>Sends a request, and reads at most <paramref name="most"/> bytes of the answer.</summary>
    /// <exception cref="IOException">There was no answer in time, or too long a one.</exception>
    internal async Task<Answer> PutAsync(
        string path, ReadOnlyMemory<byte> body, string contentType, bool packed, TimeSpan timeout, int most, CancellationToken stop)
    {
        using var late = CancellationTokenSource.CreateLinkedTokenSource(stop);
        if (timeout.TotalMilliseconds < int.MaxValue)
        {
            late.CancelAfter(timeout);
        }

        using var content = new ReadOnlyMemoryContent(body);
        content.Headers.ContentType = new MediaTypeHeaderValue(contentType);
        if (packed)
        {
            content.Headers.ContentEncoding.Add("gzip");
        }

        using var request = new HttpRequestMessage(HttpMethod.Put, service + path) { Content = content };
        try
        {
            using HttpResponseMessage response =
                await client.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, late.Token).ConfigureAwait(false);
            using Stream stream = await response.Content.ReadAsStreamAsync(late.Token).ConfigureAwait(false);
            byte[] text = new byte[most + 1];
            int size = await stream.ReadAtLeastAsync(text, text.Length, throwOnEndOfStream: false, late.Token).ConfigureAwait(false);
            if (size > most)
            {
                throw new IOException("the answer is too long");
            }

            return new Answer(
                response.StatusCode,
                response.Content.Headers.ContentType?.MediaType,
                response.Headers.RetryAfter?.Delta ?? TimeSpan.Zero,
                Encoding.UTF8.GetString(text, 0, size));
        }
        catch (OperationCanceledException) when (!stop.IsCancellationRequested)
        {
            throw new IOException(string.Create(CultureInfo.InvariantCulture, $"no answer within {timeout.TotalSeconds} s"));
        }
        catch (Exception e) when (e is HttpRequestException or OperationCanceledException)
        {
            throw new IOException(e.InnerException?.Message ?? e.Message, e);
        }
    }

    /// <summary>Reads an answer's body; null where it is no JSON object.</summary>
    internal static JsonElement? Object(string body)
    {
        try
        {
            using var document = JsonDocument.Parse(body);
            return document.RootElement.ValueKind == JsonValueKind.Object ? document.RootElement.Clone() : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    public void Dispose() => client.Dispose();
}
