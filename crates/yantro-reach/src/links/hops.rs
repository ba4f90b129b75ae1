//! The machines that the way to a host goes through, by the client's own settings.

/// The machines that a client's settings come through, as `ssh -G` prints them: those of `ProxyJump`, and whatever a
/// `ProxyCommand` names.
pub(super) fn hops_in(settings: &str) -> Vec<String> {
    let jumps = settings.lines().filter_map(|l| l.strip_prefix("proxyjump ")).flat_map(|j| j.split(','));
    let words = settings.lines().filter_map(|l| l.strip_prefix("proxycommand ")).flat_map(str::split_whitespace);
    jumps.chain(words).filter(|word| *word != "none").map(hop).collect()
}

/// The name or address that a name stands for by a client's settings.
pub(super) fn hostname_in(settings: &str) -> Option<String> {
    settings.lines().find_map(|l| l.strip_prefix("hostname ")).map(|name| name.trim().to_owned())
}

/// Whether a word of a `ProxyCommand` can be a host's name, and no option, path or placeholder.
pub(super) fn may_be_a_host(word: &str) -> bool {
    !word.starts_with('-') && !word.is_empty() && word.chars().all(|c| c.is_ascii_alphanumeric() || ".-_:".contains(c))
}

/// The host of a jump: `account@host:port`, or `ssh://…`.
fn hop(jump: &str) -> String {
    let jump = jump.trim().trim_start_matches("ssh://");
    let host = jump.rsplit_once('@').map_or(jump, |(_, h)| h);
    match host.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or(rest).to_owned(),
        None => host.split(':').next().unwrap_or(host).to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::a_name("harbour", true)]
    #[case::an_address("fd00::2", true)]
    #[case::an_option("-W", false)]
    #[case::a_placeholder("%h:%p", false)]
    #[case::a_path("/usr/bin/nc", false)]
    fn a_word_that_can_be_a_host_is_told(#[case] word: &str, #[case] may_be: bool) {
        assert_eq!(may_be_a_host(word), may_be);
    }

    #[rstest]
    #[case::none("user root\nproxyjump none\nport 22\n", &[])]
    #[case::one("proxyjump maren@harbour:2222\n", &["harbour"])]
    #[case::two("proxyjump ssh://quay,[fd00::2]:22\n", &["quay", "fd00::2"])]
    #[case::by_a_command("proxycommand ssh -W %h:%p maren@harbour\n", &["ssh", "-W", "%h", "harbour"])]
    fn the_machines_come_through_are_told(#[case] settings: &str, #[case] hops: &[&str]) {
        assert_eq!(hops_in(settings), hops);
    }
}
