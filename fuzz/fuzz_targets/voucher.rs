#![no_main]
#![expect(missing_docs, reason = "the fuzzer's entry")]

libfuzzer_sys::fuzz_target!(|data: &[u8]| tidy_warden_fuzz::voucher(data));
