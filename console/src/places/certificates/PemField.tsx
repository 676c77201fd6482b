import { useId } from "react";
import { BOX } from "../../parts/Field";

/** Text in PEM, pasted or from files. */
export function PemField(props: { label: string; help: string; value: string; change: (pem: string) => void }) {
  const id = useId();
  const read = async (files: FileList | null) => {
    const texts = await Promise.all([...(files ?? [])].map((file) => file.text()));
    if (texts.length > 0) props.change([props.value, ...texts].filter((text) => text.trim()).join("\n"));
  };
  return (
    <div className="grid grid-cols-[9rem_1fr] items-start gap-x-4">
      <label htmlFor={id} className="pt-1 font-semibold">
        {props.label}
      </label>
      <span>
        <textarea
          id={id}
          name="pem"
          rows={6}
          spellCheck={false}
          autoComplete="off"
          value={props.value}
          onChange={(event) => props.change(event.target.value)}
          className={`${BOX} font-mono text-xs`}
        />
        <span className="block text-sm text-soft">{props.help}</span>
        <input
          type="file"
          multiple
          accept=".pem,.crt,.cer,.key,.crl"
          aria-label={`${props.label} from files`}
          onChange={(event) => void read(event.target.files)}
          className="mt-1 text-sm"
        />
      </span>
    </div>
  );
}
