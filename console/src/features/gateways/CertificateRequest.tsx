import { useMutation } from "@tanstack/react-query";
import { api, type Content, dataOf } from "../../api/client";
import { Button } from "../../components/Form";
import { shown } from "../description/schema";
import { Failure } from "../devices/Failure";

interface CertificateRequestProps {
  uplink: Content;
  /** A new private key: it goes into the form, and nowhere else. */
  onKey: (key: string) => void;
}

/** Makes a private key for the form and a request that the broker's authority signs. */
export function CertificateRequest({ uplink, onKey }: CertificateRequestProps) {
  const name = shown(uplink.node) || shown(uplink["client-id"]) || shown(uplink.name);
  const make = useMutation({
    mutationFn: () => dataOf(api.POST("/api/v1/certificate-requests", { body: { name } })),
    onSuccess: (made) => onKey(made.key),
  });
  if (!shown(uplink.url).startsWith("mqtts:") || name === "") return null;
  return (
    <section aria-label="Certificate request" className="grid gap-2 text-sm" aria-live="polite">
      <div className="flex flex-wrap items-center gap-3">
        <Button quiet disabled={make.isPending} onClick={() => make.mutate()}>
          Make a key and a certificate request
        </Button>
        <span className="text-soft">for {name}, where the broker asks for a certificate</span>
      </div>
      {make.data ? (
        <p className="text-soft">
          The key is in the form now: save it.{" "}
          <a
            className="text-act underline"
            download={`${name}.csr`}
            href={`data:application/pkcs10,${encodeURIComponent(make.data.request)}`}
          >
            Save the request
          </a>{" "}
          and have the broker’s authority sign it; what comes back is the certificate.
        </p>
      ) : null}
      <Failure error={make.error} />
    </section>
  );
}
