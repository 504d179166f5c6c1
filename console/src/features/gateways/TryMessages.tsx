import { useQuery } from "@tanstack/react-query";
import { useDeferredValue } from "react";
import { api, type Content, dataOf } from "../../api/client";
import { Failure } from "../devices/Failure";

/** The messages that the form's templates make of the values that are there now; nothing is sent. */
export function TryMessages({ gateway, uplink }: { gateway: string; uplink: Content }) {
  // Secrets have no part in messages.
  const { password: _password, key: _key, ...content } = uplink;
  const typed = useDeferredValue(JSON.stringify(content));
  const messages = useQuery({
    queryKey: ["messages", gateway, typed],
    queryFn: () =>
      dataOf(api.POST("/api/v1/gateways/{gateway}/trials/messages", { params: { path: { gateway } }, body: { uplink: JSON.parse(typed) as Content } })),
    refetchInterval: 2000,
    placeholderData: (before) => before,
    retry: false,
  });
  return (
    <section aria-label="What would be sent" className="grid gap-2 rounded-md border border-line bg-raised p-3 text-sm">
      <h3 className="font-medium">What would be sent now</h3>
      <Failure error={messages.error} />
      {messages.data?.length === 0 ? <p className="text-soft">No point is chosen.</p> : null}
      {messages.data?.slice(0, 3).map((message, at) =>
        message.error ? (
          <p key={at} className="text-alarm">
            {message.error}
          </p>
        ) : (
          <div key={at}>
            <p className="font-mono text-xs">
              {message.topic}
              <span className="text-faint">
                {" "}
                · {message.payload.length} bytes{message.is_json ? "" : ", not JSON"}
              </span>
            </p>
            <pre className="max-h-40 overflow-auto text-xs whitespace-pre-wrap text-soft wrap-anywhere">{message.payload}</pre>
          </div>
        ),
      )}
      {(messages.data?.length ?? 0) > 3 ? <p className="text-faint">and {(messages.data?.length ?? 0) - 3} more</p> : null}
    </section>
  );
}
