import { useEffect, useRef, useState, type InputHTMLAttributes } from "react";
import { fieldClass } from "./Ask";

interface Props extends Omit<InputHTMLAttributes<HTMLInputElement>, "value" | "onChange"> {
  value: string;
  onChange: (v: string) => void;
}

/** Typed tells what was typed once the fingers rest. What comes from elsewhere meanwhile never takes a letter away. */
export function Typed({ value, onChange, className = "", ...rest }: Props) {
  const [text, setText] = useState(value);
  const told = useRef(value);
  const tell = useRef(onChange);
  tell.current = onChange;
  useEffect(() => {
    if (value !== told.current) setText((told.current = value));
  }, [value]);
  useEffect(() => {
    if (text === told.current) return;
    const timer = setTimeout(() => tell.current((told.current = text)), 250);
    return () => clearTimeout(timer);
  }, [text]);
  return <input {...rest} className={`${fieldClass} ${className}`} value={text} onChange={(e) => setText(e.target.value)} />;
}
