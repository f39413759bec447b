package example.keenlantern.record;

import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.nio.ByteBuffer;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.util.List;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.CompletionStage;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.Flow;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.TimeoutException;

/** Requests to one service. Redirects are not followed: they would take the token along. */
final class Http {
    private final URI service;
    private final String token;
    private final HttpClient client;

    Http(Config config) {
        service = config.service;
        token = config.token;
        client = HttpClient.newBuilder()
                .version(HttpClient.Version.HTTP_1_1)
                .followRedirects(HttpClient.Redirect.NEVER)
                .connectTimeout(config.timeout)
                .build();
    }

    /** What the service said. */
    record Answer(int status, String kind, long retryAfter, URI service, String body) {
        /** Throws unless it is one of the service's API. */
        void ofService() throws IOException {
            if (status >= 300 && status < 400)
                throw new IOException(
                        status + " to another address, which is not followed; set service to where the service is");
            if (status != 200 || !kind.equals("application/json"))
                throw new IOException("the answer of " + service + " is " + status + " with content type "
                        + (kind.isEmpty() ? "none" : kind) + "; is that a Keen Lantern service?");
        }
    }

    /**
     * Puts a body, packed with gzip if it is one of lines, and reads at most so many bytes of the answer.
     *
     * @throws IOException where there is no answer in time
     */
    Answer put(String path, byte[] body, String kind, Duration timeout, int most) throws IOException {
        HttpRequest.Builder request = HttpRequest.newBuilder(URI.create(service + path))
                .PUT(HttpRequest.BodyPublishers.ofByteArray(body))
                .header("Content-Type", kind);
        if (kind.equals("application/x-ndjson")) request.header("Content-Encoding", "gzip");
        if (token != null && !token.isEmpty()) request.header("Authorization", "Bearer " + token);
        CompletableFuture<HttpResponse<String>> asked = client.sendAsync(request.build(), info -> new Bounded(most));
        try {
            HttpResponse<String> response = asked.get(timeout.toMillis(), TimeUnit.MILLISECONDS);
            String type = response.headers().firstValue("Content-Type").orElse("");
            long after = 0;
            try {
                after = Math.max(
                        0,
                        Long.parseLong(
                                response.headers().firstValue("Retry-After").orElse("0")));
            } catch (NumberFormatException e) {
                // A date, or nonsense: it is tried again when it would have been.
            }
            return new Answer(
                    response.statusCode(), type.split(";")[0].trim(), Math.min(after, 3600), service, response.body());
        } catch (TimeoutException e) {
            throw new IOException("no answer within " + timeout.toMillis() / 1000.0 + " s", e);
        } catch (ExecutionException e) {
            Throwable cause = e.getCause();
            throw new IOException(cause.getMessage() == null ? cause.toString() : cause.getMessage(), cause);
        } catch (InterruptedException e) {
            Thread.currentThread().interrupt();
            throw new IOException("it was given up", e);
        } finally {
            asked.cancel(true);
        }
    }

    /** Takes a body up to a length. */
    private static final class Bounded implements HttpResponse.BodySubscriber<String> {
        private final int most;
        private final ByteArrayOutputStream body = new ByteArrayOutputStream();
        private final CompletableFuture<String> done = new CompletableFuture<>();
        private Flow.Subscription subscription;

        Bounded(int most) {
            this.most = most;
        }

        @Override
        public CompletionStage<String> getBody() {
            return done;
        }

        @Override
        public void onSubscribe(Flow.Subscription subscription) {
            this.subscription = subscription;
            subscription.request(Long.MAX_VALUE);
        }

        @Override
        public void onNext(List<ByteBuffer> parts) {
            for (ByteBuffer part : parts) {
                if (body.size() + part.remaining() > most) {
                    subscription.cancel();
                    done.completeExceptionally(new IOException("the answer is too long"));
                    return;
                }
                byte[] bytes = new byte[part.remaining()];
                part.get(bytes);
                body.writeBytes(bytes);
            }
        }

        @Override
        public void onError(Throwable error) {
            done.completeExceptionally(error);
        }

        @Override
        public void onComplete() {
            done.complete(body.toString(StandardCharsets.UTF_8));
        }
    }
}
