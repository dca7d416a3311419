import { Field } from "./Field";

interface Props {
  label?: string;
  passphrase: string;
  again: string;
  onPassphrase: (text: string) => void;
  onAgain: (text: string) => void;
}

/** NewPassphrase is where one chooses a passphrase, typed twice. */
export function NewPassphrase({ label = "Choose a passphrase", passphrase, again, onPassphrase, onAgain }: Props) {
  const differ = again !== "" && again !== passphrase;
  return (
    <>
      <Field
        label={label}
        name="new"
        type="password"
        autoComplete="new-password"
        required
        minLength={10}
        value={passphrase}
        onType={onPassphrase}
      />
      <Field
        label="The same again"
        name="again"
        type="password"
        autoComplete="new-password"
        required
        aria-invalid={differ}
        aria-describedby="differ"
        value={again}
        onType={onAgain}
      />
      <p id="differ" className="text-sm text-peat">
        {differ ? (
          <span className="text-rust">The two are not the same.</span>
        ) : (
          "At least ten characters. A few words that do not belong together are easy to keep and hard to guess."
        )}
      </p>
    </>
  );
}
