import { useQuery } from "@tanstack/react-query";
import { api, dataOf } from "../../api/client";
import { Failure } from "../devices/Failure";

/** The certificate by which servers know us, to be saved and given to them. */
export function OwnCertificate() {
  const own = useQuery({ queryKey: ["own-certificate"], queryFn: () => dataOf(api.GET("/api/v1/own-certificate")) });
  if (!own.data) return <Failure error={own.error} />;
  const { pem, thumbprint, application_uri } = own.data;
  const base64 = pem.replace(/-----[^-]+-----|\s/g, "");
  return (
    <section aria-label="Our certificate" className="grid gap-1 text-sm">
      <p>
        The server has to trust us, too. Save our certificate{" "}
        <a className="text-act underline" download="interlex.pem" href={`data:application/x-pem-file,${encodeURIComponent(pem)}`}>
          as PEM
        </a>{" "}
        or{" "}
        <a className="text-act underline" download="interlex.der" href={`data:application/pkix-cert;base64,${base64}`}>
          as DER
        </a>
        , and accept it there.
      </p>
      <p className="font-mono text-xs break-all text-soft">
        {application_uri}, SHA-1 {thumbprint}
      </p>
    </section>
  );
}
