import { useMutation } from "@tanstack/react-query";
import { api, dataOf } from "../../api/client";
import { Button } from "../../components/Form";
import { span } from "../../text/format";
import { Failure } from "./Failure";

/** What the report settings of a device's points would send, by what was read in the last minutes. */
export function ReportPreview({ gateway, device }: { gateway: string; device: string }) {
  const preview = useMutation({
    mutationFn: () => dataOf(api.POST("/api/v1/gateways/{gateway}/trials/reports", { params: { path: { gateway } }, body: { device } })),
  });
  const points = preview.data ?? [];
  const sum = (of: (point: (typeof points)[number]) => number) => points.reduce((all, point) => all + of(point), 0);
  const whole = (number: number) => Math.round(number).toLocaleString("en");
  return (
    <section aria-label="What would be sent" className="grid gap-2 text-sm" aria-live="polite">
      <Button quiet className="justify-self-start" disabled={preview.isPending} onClick={() => preview.mutate()}>
        What would be sent?
      </Button>
      <Failure error={preview.error} />
      {preview.data && points.length === 0 ? <p className="text-soft">Nothing is remembered of its points yet.</p> : null}
      {points.length > 0 ? (
        <>
          <p className="text-soft">
            By what was read in the last {span(Math.max(...points.map((point) => point.seconds)) * 1000)}: {whole(sum((point) => point.sent_per_hour))}{" "}
            values and {(sum((point) => point.bytes_per_hour) / 1000).toFixed(1)} kB an hour.
          </p>
          <table className="w-full text-left">
            <thead>
              <tr className="text-xs text-soft">
                <th className="py-1 pr-3 font-normal">Point</th>
                <th className="pr-3 text-right font-normal">Read</th>
                <th className="pr-3 text-right font-normal">Would be sent</th>
                <th className="text-right font-normal">An hour</th>
              </tr>
            </thead>
            <tbody>
              {points.map((point) => (
                <tr key={point.point} className="border-t border-line tabular-nums">
                  <th className="py-1 pr-3 font-medium">{point.point}</th>
                  <td className="pr-3 text-right">{point.read.toLocaleString("en")}</td>
                  <td className="pr-3 text-right">{point.sent.toLocaleString("en")}</td>
                  <td className="text-right">{whole(point.sent_per_hour)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      ) : null}
    </section>
  );
}
