package example.keenlantern.record.spring;

import example.keenlantern.record.Event;
import example.keenlantern.record.Naming;
import example.keenlantern.record.Recorder;
import example.keenlantern.record.Work;
import jakarta.servlet.AsyncEvent;
import jakarta.servlet.AsyncListener;
import jakarta.servlet.DispatcherType;
import jakarta.servlet.Filter;
import jakarta.servlet.FilterChain;
import jakarta.servlet.ServletException;
import jakarta.servlet.ServletRequest;
import jakarta.servlet.ServletResponse;
import jakarta.servlet.http.HttpServletRequest;
import jakarta.servlet.http.HttpSession;
import jakarta.servlet.http.HttpSessionEvent;
import jakarta.servlet.http.HttpSessionListener;
import java.io.IOException;
import java.util.Set;

/** Opens a scope for each request, around all other filters. It is for dispatches of requests, asynchronous ones and errors. */
final class RequestScopes implements Filter, HttpSessionListener {
    private static final String SCOPE = RequestScopes.class.getName() + ".scope";
    private static final String PATTERN = "org.springframework.web.servlet.HandlerMapping.bestMatchingPattern";
    private static final Set<String> METHODS =
            Set.of("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "CONNECT", "OPTIONS", "TRACE");

    private final Recorder recorder;
    private final Scopes scopes;
    private final Work unrecorded;

    /** The scope of a request, and what it is to be called. */
    private record Opened(long scope, String trace, Naming naming) {}

    RequestScopes(SpringRecording recording) {
        recorder = recording.recorder;
        scopes = recording.scopes();
        unrecorded = recorder.in(Recorder.UNRECORDED, "request", null);
        scopes.requests(request -> request instanceof ServletRequest r && r.getAttribute(SCOPE) instanceof Opened opened
                ? opened.scope
                : 0);
        scopes.sessionsEnd();
    }

    @Override
    public void doFilter(ServletRequest request, ServletResponse response, FilterChain chain)
            throws IOException, ServletException {
        if (!(request instanceof HttpServletRequest http)) {
            chain.doFilter(request, response);
            return;
        }
        // Attributes are searched for in several places: not while nothing is recorded.
        boolean begins = http.getDispatcherType() == DispatcherType.REQUEST;
        Opened opened = begins && !recorder.on() ? null : (Opened) http.getAttribute(SCOPE);
        if (opened == null && (!recorder.on() || http.getDispatcherType() == DispatcherType.ASYNC)) {
            // What happens in it is not recorded either, should recording begin meanwhile.
            try (Work.Entered entered = unrecorded.enter()) {
                chain.doFilter(request, response);
            }
            return;
        }
        boolean goesOn = opened != null && http.getDispatcherType() != DispatcherType.ERROR;
        if (!goesOn) {
            opened = open(http);
            http.setAttribute(SCOPE, opened);
        }
        boolean owner = !goesOn || http.getDispatcherType() == DispatcherType.ASYNC;
        try (Work.Entered entered =
                recorder.in(opened.scope, "request", opened.trace).enter()) {
            chain.doFilter(request, response);
        } finally {
            if (owner) end(http, opened, goesOn);
        }
    }

    private Opened open(HttpServletRequest request) {
        String trace = recorder.traceOf(request.getHeader("traceparent"));
        Event.Open open = new Event.Open().kind("request").trace(trace);
        HttpSession session = request.getSession(false);
        if (session != null) {
            long around = scopes.session(session.getId());
            if (around > 0) open.in(around);
        }
        Naming naming = new Naming();
        return new Opened(recorder.open(open, naming), trace, naming);
    }

    private void end(HttpServletRequest request, Opened opened, boolean goesOn) {
        if (request.isAsyncStarted()) {
            if (goesOn) return; // its listener is there
            request.getAsyncContext().addListener(new AsyncListener() {
                @Override
                public void onComplete(AsyncEvent event) {
                    close(request, opened);
                }

                @Override
                public void onTimeout(AsyncEvent event) {}

                @Override
                public void onError(AsyncEvent event) {}

                @Override
                public void onStartAsync(AsyncEvent event) {
                    event.getAsyncContext().addListener(this);
                }
            });
        } else if (!goesOn) close(request, opened);
    }

    private void close(HttpServletRequest request, Opened opened) {
        if (opened.naming != null) name(request, opened.naming);
        recorder.close(opened.scope);
    }

    /** Names a request's scope by its route, now that it is known. */
    static void name(HttpServletRequest request) {
        if (request.getAttribute(SCOPE) instanceof Opened opened
                && opened.naming != null
                && request.getAttribute(PATTERN) != null) name(request, opened.naming);
    }

    // A client may invent methods and paths without end: neither is written as it came.
    private static void name(HttpServletRequest request, Naming naming) {
        String method = METHODS.contains(request.getMethod()) ? request.getMethod() : "OTHER";
        Object pattern = request.getAttribute(PATTERN);
        naming.is(pattern == null ? method : method + " " + pattern);
    }

    @Override
    public void sessionDestroyed(HttpSessionEvent event) {
        scopes.sessionEnded(event.getSession().getId());
    }
}
